"""The reference stack of the benchmark, and the same count of work for a general-purpose effects library."""

from __future__ import annotations

from apilado.core.document.equaliser import Bell, HighPass, HighShelf
from apilado.core.document.kick import Kick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.movement import Movement, Target
from apilado.core.document.path import AnyStep, Equaliser, layer_path
from apilado.core.document.section import Change, PieceSection
from apilado.core.document.stack import Bus, Crossover, Limiter, Stack, borders_of
from apilado.core.dsp.crossovers import cut
from apilado.core.notes import Note
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Modulation, Tone
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.filter import Filter
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.soft_clip import SoftClip

EQ = (
    HighPass(frequency_hz=30.0),
    Bell(id="cut", frequency_hz=300.0, gain_db=-4.0),
    Bell(frequency_hz=1200.0, gain_db=2.0),
    HighShelf(frequency_hz=6000.0, gain_db=-3.0),
)


def reference_stack(bars: int = 8) -> Stack:
    """Three layers of two tones with 7 copies, 4-band EQ, 4× drive, compressor; bus; duck; 120 bpm, 48 kHz."""
    source = ToneSource(
        tones=(Tone(shape="saw", copies=7, spread=0.8), Tone(shape="square", octave=1, copies=7, spread=0.5)),
    )
    layers = tuple(
        Layer(
            id=name,
            name=name,
            source=source,
            voice=Voice(envelope=Envelope(sustain=0.7), glide_ms=60.0 + number),
            span=Span(first=number, last=number),
            path=layer_path(SoftClip(drive_db=9.0), Compressor(), Equaliser(id="eq", points=EQ)),
            level_db=-9.0,
        )
        for number, name in enumerate(("low", "middle", "top"))
    )
    notes = tuple(
        Note(start_beats=0.5 * step, length_beats=0.45, pitch=29 + (step * 5) % 12) for step in range(8 * bars)
    )
    return Stack(
        name="Reference",
        tempo_bpm=120.0,
        bars=bars,
        pattern=notes,
        kick=Kick(hits=tuple(float(beat) for beat in range(4 * bars))),
        crossovers=(Crossover(id="lower", frequency_hz=110.0), Crossover(id="upper", frequency_hz=700.0)),
        layers=layers,
        bus=Bus(
            path=(Equaliser(points=(HighPass(frequency_hz=28.0, slope_db_per_octave=12),)),),
            limiter=Limiter(ceiling_db=-3.0),
        ),
    )


def at_oversampling(stack: Stack, factor: int) -> Stack:
    """The stack with all drives of its layers at a multiple of the rate."""

    def step(each: AnyStep) -> AnyStep:
        oversampled = "oversampling" in type(each).model_fields
        return each.model_copy(update={"oversampling": factor}) if oversampled else each

    layers = [each.model_copy(update={"path": tuple(map(step, each.path))}) for each in stack.layers]
    return stack.model_copy(update={"layers": tuple(layers)})


def layered_stack(bars: int = 4) -> Stack:
    """Six layers of four tones with 7 copies, drives at 4×, compressors, EQ; a bus; 87 bpm, 48 kHz."""
    tones = tuple(
        Tone(id=f"tone-{n}", shape=shape, octave=octave, copies=7, spread=0.7, detune_cents=9.0 + n)
        for n, (shape, octave) in enumerate((("saw", 0), ("square", 0), ("saw", 1), ("triangle", 1)))
    )
    borders = (90.0, 220.0, 500.0, 1200.0, 3500.0)
    layers = tuple(
        Layer(
            id=f"layer-{number}",
            name=f"layer {number}",
            source=ToneSource(tones=tones, pitch_st=0.01 * number),
            span=Span(first=number, last=number),
            path=layer_path(
                SoftClip(id="clip", drive_db=9.0 + number), Compressor(id="comp"), Equaliser(id="eq", points=EQ)
            ),
            level_db=-12.0,
        )
        for number in range(len(borders) + 1)
    )
    notes = tuple(Note(start_beats=0.5 * n, length_beats=0.45, pitch=29 + (n * 5) % 12) for n in range(32))
    return Stack(
        name="Layered",
        tempo_bpm=87.0,
        bars=bars,
        pattern_bars=0 if bars <= 4 else 4,
        pattern=notes,
        kick=Kick(hits=tuple(float(beat) for beat in range(4 * bars))),
        crossovers=tuple(Crossover(id=f"border-{n}", frequency_hz=hertz) for n, hertz in enumerate(borders)),
        layers=layers,
        bus=Bus(path=(Compressor(id="glue", ratio=2.0), Equaliser(points=EQ)), limiter=Limiter(ceiling_db=-3.0)),
    )


def heavy_stack(bars: int = 4) -> Stack:
    """The six layers with more in them, a movement and a section.

    The fourth is of two waves that modulate a third, through two filters of which one moves, and has a reverb of its
    own; the upper three send to a space.
    """
    plain = layered_stack(bars)
    layers = [each.model_copy(update={"send": 0.2 if number >= 3 else 0.0}) for number, each in enumerate(plain.layers)]
    split, clip, comp, *rest = layers[3].path
    room = Reverb(id="room", decay_s=0.6, blend=0.2)
    layers[3] = layers[3].model_copy(update={"source": _talking(3), "path": (split, clip, comp, room, *rest)})
    moved = (
        Target(id="cut", path="layers/layer-3/path/eq/points/cut/frequency_hz", travel=1.0),
        Target(id="lid", path="layers/layer-3/source/filters/lid/cutoff_hz", travel=2.0),
    )
    quieter = Change(id="level", path="layers/layer-5/level_db", value=-15.0)
    sections = (PieceSection(id="last", name="last bar", first_bar=bars, last_bar=bars, changes=(quieter,)),)
    more = {
        "name": "Heavy",
        "layers": tuple(layers),
        "movements": (Movement(id="sweep", begins="bar", length_beats=4.0, targets=moved),),
        "sections": sections,
    }
    return Stack.model_validate({**plain.model_dump(), **more})


def _talking(number: int) -> ToneSource:
    """Two waves that modulate a third, through two filters."""
    into = (Modulation(id="into", wave="voice", index=1.6),)
    return ToneSource(
        tones=(
            Tone(id="throat", shape="sine", tuning="ratio", ratio_to_note=2.0, into=into),
            Tone(id="rasp", shape="sine", tuning="ratio", ratio_to_note=3.0, into=into),
            Tone(id="voice", shape="saw"),
        ),
        filters=(Filter(id="lid", cutoff_hz=900.0), Filter(id="floor", shape="high-pass", cutoff_hz=120.0)),
        pitch_st=0.01 * number,
    )


def section_counts(stack: Stack) -> list[int]:
    """How many second-order sections each layer runs through: its split and its EQ."""
    rate = stack.sample_rate
    borders = borders_of(stack.crossovers, rate)
    counts = []
    for layer in stack.layers:
        piece = cut(borders, layer.span.first, layer.span.last)
        in_split = len(piece.common.sections) + sum(len(path.sections) for _, path in piece.paths)
        counts.append(in_split + sum(len(point.sections(rate)) for point in stack.all_points(f"layers/{layer.id}")))
    return counts
