"""Three demo stacks of what sources can do: waves that talk, a click, samples that are held and cut."""

from __future__ import annotations

from functools import cache

import numpy as np

from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import Bell, HighPass, LowPass
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.movement import Movement, Target
from apilado.core.document.section import Change, PieceSection
from apilado.core.document.stack import Bus, Crossover, Limiter, SharedBus, Stack
from apilado.core.formats.bundles import Asset, Bundle
from apilado.core.notes import Note
from apilado.core.shapes.drawn_course import CoursePoint, DrawnCourse
from apilado.core.shapes.keyed_duck import KeyedDuck
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.sample import SampleSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope
from apilado.core.sources.wave import DrawnCycle, Modulation, Tone
from apilado.core.treatments.filter import Filter
from apilado.core.treatments.saturation import Saturation
from apilado.core.treatments.soft_clip import SoftClip
from apilado.core.units import midi_to_hz
from apilado.demo.sounds import TAKE_RATE_HZ, as_asset
from apilado.demo.stacks import eq, steps, voice

DOWN = (CoursePoint(at=0.0, value=1.0, bend=-0.7), CoursePoint(at=1.0, value=0.0))
MOUTH = (
    CoursePoint(at=0.0, value=0.1),
    CoursePoint(at=0.3, value=0.9),
    CoursePoint(at=0.6, value=0.35),
    CoursePoint(at=1.0, value=0.1),
)


def moving(name: str, path: str, travel: float, shape: tuple[CoursePoint, ...], **given: object) -> Movement:
    """A movement of one value."""
    target = (Target(id="t", path=path, travel=travel),)
    values: dict[str, object] = {"id": name, "name": name, "shape": DrawnCourse(points=shape), "targets": target}
    return Movement.model_validate({**values, **given})


def clean_sub(level_db: float, *, velocity: float) -> Layer:
    """A sine in the middle, under everything."""
    sine = ToneSource(tones=(Tone(id="wave", shape="sine"),), velocity=velocity)
    given: dict[str, object] = {"id": "sub", "name": "sub", "tint": "haematite", "mono": True, "level_db": level_db}
    return Layer.model_validate({**given, "source": sine, "path": steps(eq())})


def foghorn() -> Bundle:
    """A growl that talks: two waves modulate a third, a vowel walks over it; in the fill it talks at another length."""
    bar = ((0.0, 1.4, 28), (1.5, 0.9, 28), (2.5, 0.7, 31), (3.25, 0.6, 26))
    notes = tuple(
        Note(start_beats=4.0 * number + at, length_beats=length, pitch=pitch, velocity=108)
        for number in range(2)
        for at, length, pitch in bar
    )
    growl = ToneSource(
        tones=(
            Tone(
                id="throat",
                shape="sine",
                tuning="ratio",
                ratio_to_note=2.0,
                into=(Modulation(id="into", wave="voice", index=1.6),),
            ),
            Tone(
                id="rasp",
                shape="sine",
                tuning="ratio",
                ratio_to_note=3.0,
                into=(Modulation(id="into", wave="voice", index=0.9),),
                envelope=Envelope(attack_ms=2.0, decay_ms=650.0, sustain=0.2, release_ms=60.0),
            ),
            Tone(id="voice", shape="triangle", bend=0.25),
            Tone(id="edge", shape="saw", octave=1, level_db=-16.0, copies=2, detune_cents=7.0, spread=0.5),
        ),
        filters=(
            Filter(id="mouth", shape="vowel", vowel=1.0, drive_db=6.0, output_db=8.0, blend=0.75),
            Filter(id="lid", shape="low-pass", cutoff_hz=5200.0, slope=12, resonance=0.1),
        ),
        velocity=0.3,
    )
    mouth, index = "layers/growl/source/filters/mouth/vowel", "layers/growl/source/tones/throat/into/into/index"
    stack = Stack(
        name="Foghorn",
        tempo_bpm=140.0,
        bars=2,
        key="E minor",
        seed=11,
        pattern=notes,
        voice=voice(45.0, attack_ms=4.0, decay_ms=1500.0, sustain=0.85, release_ms=50.0),
        kick=Kick(sound=SynthKick(end_hz=48.0, decay_ms=220.0), level_db=-7.0, hits=(0.0, 2.5, 4.0, 6.5)),
        crossovers=(Crossover(id="lower", frequency_hz=105.0), Crossover(id="upper", frequency_hz=900.0)),
        layers=(
            clean_sub(-7.0, velocity=0.3),
            Layer(
                id="growl",
                name="growl",
                tint="lapis",
                source=growl,
                span=Span(first=1, last=1),
                path=steps(SoftClip(id="clip", drive_db=6.0, keep_level=True), eq()),
                level_db=-8.0,
                width=0.4,
            ),
            Layer(
                id="spit",
                name="spit",
                tint="verdigris",
                source=LayerSound(layer="growl"),
                span=Span(first=2, last=2),
                path=steps(
                    Saturation(id="grit", drive_db=8.0, keep_level=True),
                    eq(LowPass(id="top", frequency_hz=9500.0, slope_db_per_octave=12)),
                ),
                level_db=-12.0,
            ),
        ),
        movements=(
            moving("talk", mouth, 2.6, MOUTH, begins="note", then="repeats", length_beats=0.75),
            moving("push", index, 2.4, DOWN, begins="note", then="repeats", length_beats=0.5),
        ),
        sections=(
            PieceSection(
                id="fill",
                name="fill",
                first_bar=2,
                last_bar=2,
                changes=(Change(path="movements/talk/length_beats", value=0.25),),
            ),
        ),
        shared=SharedBus(path=(eq(),)),
        bus=Bus(
            path=(eq(HighPass(id="rumble", frequency_hz=26.0, slope_db_per_octave=12)),),
            limiter=Limiter(ceiling_db=-5.0),
        ),
        duckers=(Ducker(id="duck", shape=KeyedDuck(threshold_db=-26.0, release_ms=60.0, range_db=9.0)),),
    )
    return Bundle(stack, ())


def bollard() -> Bundle:
    """A pluck in two layers: a resonant high-pass that is snapped open clicks over a soft low note."""
    bar = ((0.0, 0.6, 33), (0.75, 0.4, 33), (1.5, 0.6, 36), (2.5, 0.4, 33), (3.0, 0.4, 40), (3.5, 0.35, 38))
    notes = tuple(
        Note(start_beats=4.0 * number + at, length_beats=length, pitch=pitch, velocity=112 if at in (0.0, 2.5) else 92)
        for number in range(2)
        for at, length, pitch in bar
    )
    soft = ToneSource(
        tones=(
            Tone(id="wave", shape="triangle"),
            Tone(id="fifth", shape="sine", octave=1, level_db=-14.0),
        ),
        filters=(Filter(id="soft", cutoff_hz=260.0, follow=0.6, slope=12, resonance=0.1),),
        velocity=0.5,
    )
    click = ToneSource(
        tones=(
            Tone(
                id="tap",
                shape="table",
                octave=1,
                table=(
                    DrawnCycle(id="hard", harmonics=(0.6, 0.5, 0.6, 0.4, 0.4, 0.3, 0.3, 0.2)),
                    DrawnCycle(id="mild", harmonics=(1.0, 0.2, 0.1)),
                ),
                envelope=Envelope(attack_ms=0.5, decay_ms=160.0, sustain=0.0, release_ms=20.0),
            ),
            Tone(
                id="dust",
                shape="noise",
                slope_db_per_octave=-3.0,
                level_db=-18.0,
                spread=0.6,
                envelope=Envelope(attack_ms=0.5, decay_ms=35.0, sustain=0.0, release_ms=5.0),
                filtered=False,
            ),
        ),
        filters=(Filter(id="snap", shape="high-pass", cutoff_hz=420.0, resonance=0.55, output_db=4.0),),
        velocity=0.7,
    )
    snap, walk = "layers/click/source/filters/snap/cutoff_hz", "layers/click/source/tones/tap/position"
    stack = Stack(
        name="Bollard",
        tempo_bpm=118.0,
        bars=2,
        key="A minor",
        seed=5,
        pattern=notes,
        voice=voice(0.0, attack_ms=1.0, decay_ms=420.0, sustain=0.0, release_ms=40.0),
        kick=Kick(sound=SynthKick(end_hz=52.0, decay_ms=180.0), level_db=-5.0, hits=tuple(float(b) for b in range(8))),
        crossovers=(Crossover(id="lower", frequency_hz=320.0),),
        layers=(
            Layer(id="soft", name="soft", tint="umber", mono=True, level_db=-8.0, source=soft, path=steps(eq())),
            Layer(
                id="click",
                name="click",
                tint="malachite",
                source=click,
                span=Span(first=1, last=1),
                path=steps(eq(Bell(id="wood", frequency_hz=1400.0, gain_db=2.0, q=1.2))),
                level_db=-7.0,
            ),
        ),
        movements=(
            moving("snap", snap, 3.2, DOWN, begins="note", length_in="ms", length_ms=28.0),
            moving("walk", walk, 1.0, tuple(reversed_course(DOWN)), begins="note", length_in="ms", length_ms=120.0),
        ),
        shared=SharedBus(path=(eq(),)),
        bus=Bus(
            path=(eq(HighPass(id="rumble", frequency_hz=28.0, slope_db_per_octave=12)),),
            limiter=Limiter(ceiling_db=-5.0),
        ),
        duckers=(Ducker(id="duck", shape=KeyedDuck(threshold_db=-26.0, release_ms=50.0, range_db=8.0)),),
    )
    return Bundle(stack, ())


def sea_chest() -> Bundle:
    """A struck pipe that is held in a short loop, and a chain that is cut in slices, over a clean sub."""
    pipe, chain = pipe_sound(), chain_sound()
    notes = tuple(
        Note(start_beats=at, length_beats=length, pitch=pitch, velocity=104)
        for at, length, pitch in ((0.0, 1.4, 31), (1.5, 1.0, 31), (3.0, 0.9, 34), (4.0, 1.4, 29), (5.5, 1.9, 31))
    )
    slices = tuple(
        Note(start_beats=0.5 * step, length_beats=0.45, pitch=36 + number, velocity=70 + 15 * (step % 3))
        for step, number in enumerate((0, 2, 1, 3, 0, 1, 2, 2, 0, 3, 1, 2, 0, 0, 3, 1))
    )
    stack = Stack(
        name="Sea Chest",
        tempo_bpm=96.0,
        bars=2,
        key="G minor",
        seed=3,
        pattern=notes,
        voice=voice(30.0, attack_ms=3.0, decay_ms=900.0, sustain=0.8, release_ms=70.0),
        kick=Kick(sound=SynthKick(end_hz=49.0, decay_ms=240.0), level_db=-7.0, hits=(0.0, 3.0, 4.0, 7.0)),
        crossovers=(Crossover(id="lower", frequency_hz=110.0), Crossover(id="upper", frequency_hz=1500.0)),
        layers=(
            clean_sub(-7.0, velocity=0.3),
            Layer(
                id="pipe",
                name="pipe",
                tint="slate",
                source=SampleSource(
                    asset=pipe.sha256,
                    file_name="struck-pipe.wav",
                    root=43,
                    held=True,
                    hold_at_ms=180.0,
                    hold_ms=81.6,
                    hold_fade=0.5,
                    filters=(Filter(id="lid", cutoff_hz=1800.0, follow=0.5, slope=12, resonance=0.15),),
                    velocity=0.4,
                ),
                span=Span(first=1, last=1),
                path=steps(SoftClip(id="clip", drive_db=5.0, keep_level=True), eq()),
                level_db=-5.0,
                width=0.6,
            ),
            Layer(
                id="chain",
                name="chain",
                tint="ochre",
                source=SampleSource(
                    asset=chain.sha256,
                    file_name="chain.wav",
                    sliced=True,
                    slices_ms=CHAIN_SLICES_MS,
                    velocity=0.6,
                ),
                notes=slices,
                span=Span(first=2, last=2),
                path=steps(eq(LowPass(id="top", frequency_hz=11000.0, slope_db_per_octave=12))),
                level_db=-11.0,
            ),
        ),
        movements=(
            moving("breath", "layers/pipe/source/filters/lid/cutoff_hz", 1.2, DOWN, begins="note", length_beats=1.0),
        ),
        shared=SharedBus(path=(eq(),)),
        bus=Bus(
            path=(eq(HighPass(id="rumble", frequency_hz=28.0, slope_db_per_octave=12)),),
            limiter=Limiter(ceiling_db=-5.0),
        ),
        duckers=(Ducker(id="duck", shape=KeyedDuck(threshold_db=-26.0, release_ms=60.0, range_db=8.0)),),
    )
    return Bundle(stack, (pipe, chain))


def reversed_course(points: tuple[CoursePoint, ...]) -> list[CoursePoint]:
    """A course the other way up."""
    return [point.model_copy(update={"value": 1.0 - point.value}) for point in points]


CHAIN_SLICES_MS = (0.0, 180.0, 340.0, 520.0)


@cache
def pipe_sound() -> Asset:
    """A pipe that is struck: partials that die away, the higher the sooner, over a tone that stays."""
    rate = TAKE_RATE_HZ
    t = np.arange(round(1.6 * rate)) / rate
    hertz = float(midi_to_hz(43.0))
    tone = sum(
        np.sin(2.0 * np.pi * n * hertz * t + 0.3 * n) * (0.25 + 0.75 * np.exp(-t * (1.0 + 0.8 * n))) / n**0.9
        for n in range(1, 24)
    )
    struck = sum(
        np.sin(2.0 * np.pi * hertz * ratio * t) * np.exp(-t * 22.0) / ratio for ratio in (2.76, 5.4, 8.93, 13.34)
    )
    return as_asset((tone + 1.5 * struck)[None], 0.6)


@cache
def chain_sound() -> Asset:
    """A chain that is dropped link by link: short rings of many partials, four of them apart."""
    rate = TAKE_RATE_HZ
    generator = np.random.default_rng(17)
    out = np.zeros((2, round(0.75 * rate)))
    for begin_ms, pitch in zip(CHAIN_SLICES_MS, (1.0, 1.31, 0.83, 1.62), strict=True):
        begin = round(begin_ms * rate / 1000.0)
        t = np.arange(out.shape[1] - begin) / rate
        for channel in range(2):
            partials = 900.0 * pitch * generator.uniform(1.0, 9.0, 14)
            ring = sum(
                np.sin(2.0 * np.pi * hertz * t + generator.uniform(0.0, 6.0))
                * np.exp(-t * generator.uniform(25.0, 60.0))
                for hertz in partials
            )
            thud = np.sin(2.0 * np.pi * 210.0 * pitch * t) * np.exp(-t * 30.0)
            out[channel, begin:] += ring / 14.0 + 0.6 * thud
    return as_asset(out, 0.7)
