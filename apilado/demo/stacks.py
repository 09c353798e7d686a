"""The demo: three stacks for the night festival of a harbour town, and the take that one of them needs."""

from __future__ import annotations

from functools import cache

import numpy as np

from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import Bell, HighPass, HighShelf, LowPass, Point
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import AnyBusStep, AnyStep, Aside, Bands, ChainedBand, Equaliser, Split
from apilado.core.document.stack import Bus, Crossover, Limiter, SharedBus, Stack
from apilado.core.formats.bundles import Asset, Bundle
from apilado.core.notes import Note
from apilado.core.shapes.keyed_duck import KeyedDuck
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.multiband import DynamicBand, Multiband
from apilado.core.treatments.saturation import Saturation
from apilado.core.treatments.soft_clip import SoftClip
from apilado.core.treatments.tape import Tape
from apilado.core.units import midi_to_hz
from apilado.demo.sounds import TAKE_RATE_HZ, as_asset


def steps(*others: AnyBusStep) -> tuple[AnyStep, ...]:
    """The path of a layer: cut to its band first."""
    return (Split(id="split"), *others)


def voice(glide_ms: float, **envelope: float) -> Voice:
    """A voice with a glide and an envelope."""
    return Voice(glide_ms=glide_ms, envelope=Envelope(**envelope))


def eq(*points: Point) -> Equaliser:
    """The one EQ of a path."""
    return Equaliser(id="eq", points=points)


def slipway() -> Bundle:
    """Four to the floor, one patch split in three, a clean sub under it."""
    bar = ((0.5, 29), (1.5, 29), (2.5, 32), (3.25, 29), (3.5, 36))
    late = ((0.5, 34), (1.5, 34), (2.5, 31), (3.25, 31), (3.5, 32))
    notes = [
        Note(start_beats=4.0 * number + at, length_beats=0.25 if at == 3.25 else 0.45, pitch=pitch, velocity=104)
        for number, shape in enumerate((bar, bar, bar, late))
        for at, pitch in shape
    ]
    notes[-1] = notes[-1].model_copy(update={"start_beats": 15.7, "length_beats": 0.25, "slide": True})
    patch = ToneSource(
        tones=(
            Tone(id="wave", shape="saw", copies=7, detune_cents=11.0, spread=0.7, level_db=-1.0),
            Tone(id="octave", shape="square", octave=1, copies=2, detune_cents=6.0, spread=0.4, level_db=-9.0),
        ),
    )
    sine = ToneSource(
        tones=(Tone(id="wave", shape="sine", harmonics=(1.0, 0.12, 0.06)),),
    )
    layers = (
        Layer(
            id="sub",
            name="sub",
            tint="ochre",
            source=sine,
            voice=voice(90.0, attack_ms=3.0, decay_ms=900.0, sustain=0.9, release_ms=60.0),
            mono=True,
            level_db=-9.0,
            path=steps(eq()),
        ),
        Layer(
            id="mid",
            name="mid",
            tint="slate",
            source=patch,
            span=Span(first=1, last=1),
            width=0.35,
            path=steps(
                SoftClip(id="clip", drive_db=9.0, output_db=-4.0),
                eq(Bell(id="dip", frequency_hz=300.0, gain_db=-4.0, q=1.1)),
            ),
            level_db=-10.5,
        ),
        Layer(
            id="high",
            name="high",
            tint="verdigris",
            source=LayerSound(layer="mid"),
            span=Span(first=2, last=2),
            path=steps(
                SoftClip(id="clip", drive_db=6.0, output_db=-5.0, blend=0.7),
                eq(HighShelf(id="air", frequency_hz=5200.0, gain_db=-3.0, q=0.7)),
            ),
            level_db=-9.0,
        ),
    )
    stack = Stack(
        name="Slipway",
        voice=voice(90.0, attack_ms=2.0, decay_ms=520.0, sustain=0.55, release_ms=60.0),
        tempo_bpm=126.0,
        bars=4,
        key="F minor",
        seed=7,
        pattern=tuple(notes),
        kick=Kick(sound=SynthKick(end_hz=50.0, decay_ms=260.0), level_db=-2.0, hits=tuple(float(b) for b in range(16))),
        crossovers=(Crossover(id="lower", frequency_hz=112.0), Crossover(id="upper", frequency_hz=640.0)),
        layers=layers,
        shared=SharedBus(path=(eq(),)),
        bus=Bus(
            path=(eq(HighPass(id="rumble", frequency_hz=28.0, slope_db_per_octave=12)),),
            limiter=Limiter(ceiling_db=-4.5),
        ),
        duckers=(
            Ducker(
                id="duck",
                shape=KeyedDuck(threshold_db=-26.0, release_ms=45.0, range_db=10.0),
                amounts={"mid": 0.8, "high": 0.5},
            ),
        ),
    )
    return Bundle(stack, ())


def lock_gate() -> Bundle:
    """A broken kick, and a fault of nearly every kind: what the soundings find here, their fixes take away."""
    shape = (
        (0.0, 0.9, 28, False),
        (1.0, 0.5, 28, False),
        (1.75, 0.6, 40, False),
        (2.5, 0.4, 23, False),
        (3.0, 0.5, 28, False),
        (3.5, 0.4, 23, True),
    )
    notes = tuple(
        Note(
            start_beats=4.0 * bar + at,
            length_beats=length,
            pitch=pitch,
            velocity=118 if pitch == 28 else 64,
            slide=slide,
        )
        for bar in range(4)
        for at, length, pitch, slide in shape
    )
    low = ToneSource(
        tones=(
            Tone(
                id="wave", shape="sine", harmonics=(1.0, 0.0, 0.3), copies=5, detune_cents=9.0, spread=0.9, phase="free"
            ),
        ),
        velocity=1.0,
    )
    growl = ToneSource(
        tones=(
            Tone(id="wave", shape="square", start_phase_deg=200.0),
            Tone(id="pulse", shape="pulse", pulse_width=0.18, octave=1),
        ),
    )
    layers = (
        Layer(
            id="sub",
            name="sub",
            tint="haematite",
            source=low,
            voice=voice(20.0, attack_ms=0.5, decay_ms=700.0, sustain=0.8, release_ms=5.0),
            level_db=-6.0,
            path=steps(eq()),
        ),
        Layer(
            id="growl",
            name="growl",
            tint="lapis",
            source=growl,
            span=Span(first=0, last=1),
            path=steps(eq(Bell(id="dip", frequency_hz=320.0, gain_db=15.0, q=1.3))),
            level_db=-4.0,
        ),
        Layer(
            id="spray",
            name="spray",
            tint="amethyst",
            source=LayerSound(layer="growl"),
            span=Span(first=2, last=2),
            path=steps(eq()),
            polarity="inverted",
            level_db=-2.0,
        ),
        Layer(
            id="gulls",
            name="gulls",
            tint="verdigris",
            source=ToneSource(
                tones=(Tone(id="wave", shape="saw", octave=2, copies=2, detune_cents=24.0, spread=1.0, phase="free"),),
            ),
            span=Span(first=2, last=2),
            path=steps(eq()),
            width=2.0,
            level_db=4.0,
        ),
    )
    stack = Stack(
        name="Lock Gate",
        voice=voice(180.0, attack_ms=2.0, decay_ms=300.0, sustain=0.7, release_ms=140.0),
        tempo_bpm=174.0,
        bars=4,
        key="E minor",
        seed=11,
        pattern=notes,
        kick=Kick(
            sound=SynthKick(start_hz=320.0, end_hz=58.0, sweep_ms=70.0, decay_ms=200.0, click=0.5),
            level_db=-8.0,
            hits=tuple(4.0 * bar + at for bar in range(4) for at in (0.0, 2.5)),
        ),
        crossovers=(
            Crossover(id="lower", frequency_hz=140.0),
            Crossover(id="upper", frequency_hz=900.0, slope_db_per_octave=12),
        ),
        layers=layers,
        shared=SharedBus(path=(eq(),)),
        bus=Bus(path=(eq(),), limiter=Limiter(on=False)),
        duckers=(Ducker(id="duck", shape=KeyedDuck(threshold_db=-30.0, release_ms=420.0, range_db=12.0, ratio=6.0)),),
    )
    return Bundle(stack, ())


@cache
def rope_walk() -> Bundle:
    """A plucked take, doubled and split: its body below, its string above, a sine under both.

    At a tempo at which no beat falls on a frame, and with a last note that is held over the loop's seam.
    """
    notes = tuple(
        Note(start_beats=4.0 * bar + at, length_beats=length, pitch=pitch, velocity=100)
        for bar, root in enumerate((33, 33, 29, 31))
        for at, length, pitch in ((0.0, 1.4, root), (1.5, 0.45, root), (2.0, 0.9, root + 3), (3.0, 0.9, root))
    )
    notes = (*notes[:-1], notes[-1].model_copy(update={"length_beats": 1.3}))
    stack_tempo = 103.7
    asset = pluck_take(notes, stack_tempo, 16.0)
    take = TakeSource(asset=asset.sha256, file_name="rope-walk-pluck.wav")
    sine = ToneSource(
        tones=(Tone(id="wave", shape="triangle"),),
    )
    layers = (
        Layer(id="post", name="post", tint="umber", source=sine, mono=True, level_db=-10.0, path=steps(eq())),
        Layer(
            id="body",
            name="body",
            tint="malachite",
            source=take,
            span=Span(first=1, last=1),
            path=steps(
                Compressor(id="squeeze", threshold_db=-24.0, ratio=3.0, makeup_db=4.0),
                SoftClip(id="clip", drive_db=6.0),
                # A copy of the body, driven on tape and pressed flat, holds the tails up under it.
                Aside(
                    id="weight",
                    level_db=-14.0,
                    path=(
                        Tape(id="tape", drive_db=12.0, output_db=-10.0, oversampling=2),
                        Multiband(
                            id="press",
                            depth=0.8,
                            bands=(DynamicBand(id="low"), DynamicBand(id="upper", from_hz=300.0)),
                        ),
                    ),
                ),
                eq(Bell(id="dip", frequency_hz=300.0, gain_db=-3.0, q=1.0)),
            ),
            level_db=-7.0,
        ),
        Layer(
            id="string",
            name="string",
            tint="ochre",
            source=LayerSound(layer="body"),
            span=Span(first=2, last=2),
            path=steps(
                # Only the top is driven hard: what the string has below stays clear.
                Bands(
                    id="bands",
                    bands=(
                        ChainedBand(id="wood"),
                        ChainedBand(
                            id="wire",
                            from_hz=1500.0,
                            path=(Saturation(id="clip", drive_db=24.0, blend=0.6, keep_level=True),),
                        ),
                    ),
                ),
                eq(LowPass(id="top", frequency_hz=9000.0, slope_db_per_octave=12)),
            ),
            width=1.1,
            level_db=-6.0,
        ),
    )
    stack = Stack(
        name="Rope Walk",
        voice=voice(60.0, attack_ms=4.0, decay_ms=1400.0, sustain=0.5, release_ms=70.0),
        tempo_bpm=stack_tempo,
        bars=4,
        key="A minor",
        seed=5,
        pattern=notes,
        kick=Kick(
            sound=SynthKick(start_hz=220.0, end_hz=48.0, sweep_ms=90.0, decay_ms=240.0, click=0.2),
            level_db=-4.0,
            hits=tuple(4.0 * bar + at for bar in range(4) for at in (0.0, 1.5, 2.0)),
        ),
        crossovers=(Crossover(id="lower", frequency_hz=100.0), Crossover(id="upper", frequency_hz=800.0)),
        layers=layers,
        shared=SharedBus(path=(eq(),)),
        bus=Bus(path=(eq(),), limiter=Limiter(ceiling_db=-6.5)),
        duckers=(Ducker(id="duck", shape=KeyedDuck(threshold_db=-24.0, release_ms=60.0, range_db=6.0)),),
    )
    return Bundle(stack, (asset,))


def pluck_take(notes: tuple[Note, ...], tempo_bpm: float, beats: float) -> Asset:
    """A plucked string played along the notes, by the Karplus–Strong algorithm (Computer Music Journal 7/2, 1983)."""
    rate = TAKE_RATE_HZ
    total = np.zeros((2, round(beats * 60.0 / tempo_bpm * rate)))
    generator = np.random.default_rng(83)
    for note in notes:
        start = round(note.start_beats * 60.0 / tempo_bpm * rate)
        frames = min(round(note.length_beats * 60.0 / tempo_bpm * rate), total.shape[1] - start)
        string = _string(float(midi_to_hz(float(note.pitch))), frames, generator)
        fade = min(600, frames)
        string[frames - fade :] *= np.linspace(1.0, 0.0, fade)
        for channel, delay in enumerate((0, 11)):
            end = min(start + delay + frames, total.shape[1])
            total[channel, start + delay : end] += string[: end - start - delay]
    return as_asset(total, 0.7)


def _string(frequency_hz: float, frames: int, generator: np.random.Generator) -> np.ndarray:
    period = TAKE_RATE_HZ / frequency_hz - 0.5
    length = round(period)
    out = np.zeros(frames + length + 1)
    out[1 : length + 1] = np.convolve(generator.uniform(-1.0, 1.0, length + 7), np.ones(8) / 8.0, "valid")
    # One period at a time: each is the one before, averaged with its neighbour and a little quieter.
    for at in range(length + 1, frames + length + 1, length):
        end = min(at + length, out.shape[0])
        before = out[at - length : end - length]
        out[at:end] = 0.4985 * (before + out[at - length - 1 : end - length - 1])
    return out[1 : frames + 1]
