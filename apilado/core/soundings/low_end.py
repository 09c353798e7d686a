"""Advice on the low end: border, key, shape of the sub, the cost of mono. Each with the edit that does it."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from apilado.core.document.editing import Edit
from apilado.core.document.edits_borders import MoveCrossover, PutSubUnder, SubInPlaceOf
from apilado.core.document.edits_layers import SetSource
from apilado.core.document.edits_pattern import TransposePattern, recordings
from apilado.core.document.edits_values import AddPart, SetValue
from apilado.core.document.layer import Layer
from apilado.core.document.stack import MOST_LAYERS, Stack, shifted_key
from apilado.core.measure.bands import band_centres
from apilado.core.measure.fullness import FLATTEST_SINGLE_PEAK
from apilado.core.measure.stem import THIRD
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sub import fitting, level_corrections
from apilado.core.units import midi_to_hz, power_to_db

FURTHEST_SHIFT = 7
ROOM_ABOVE = 2.0 ** (1.0 / 6.0)
"""A border lies at least a sixth of an octave above the highest fundamental of the sub."""


@dataclass(frozen=True)
class BorderAdvice:
    """Where the border between sub and mid should lie."""

    frequency_hz: float
    highest_hz: float
    """The highest fundamental that must stay in the sub."""
    sentence: str
    edit: Edit | None


@dataclass(frozen=True)
class Shift:
    """A transposition of the part."""

    semitones: int
    key: str
    fitting: int
    of: int
    edit: Edit | None


@dataclass(frozen=True)
class Shape:
    """A sound for the sub, one press away."""

    name: str
    edit: Edit


@dataclass(frozen=True)
class FoldDown:
    """What a band loses in mono, and to whom."""

    low_hz: float
    high_hz: float
    loss_db: float
    balance_db: float
    """Right against left; positive leans right."""
    worst: str
    """The layer with the most side signal there; '' where there is none."""


def fundamentals(measures: Measures) -> list[float]:
    """Of every note that the sub plays, or that it would if there were one."""
    sub = measures.sub
    if sub is not None:
        found = measures.fundamentals
        return [found[n.pitch] for n in measures.notes[sub.id] if n.pitch in found]
    return [float(midi_to_hz(float(n.pitch))) for n in measures.stack.played() if n.start_beats < measures.stack.beats]


def border_advice(measures: Measures) -> BorderAdvice | None:
    """The border suggested by the pattern: between its highest fundamental and the next harmonic of its lowest."""
    found = fundamentals(measures)
    if not found:
        return None
    highest, following = max(found), 2.0 * min(found)
    if following >= highest * ROOM_ABOVE**2:
        wanted = math.sqrt(highest * following)
        why = f"between the highest fundamental, {highest:.0f} Hz, and the lowest second harmonic, {following:.0f} Hz"
    else:
        wanted = highest * ROOM_ABOVE
        why = (
            f"just above the highest fundamental, {highest:.0f} Hz; the second harmonic of the lowest note, "
            f"{following:.0f} Hz, then stays in the sub"
        )
    wanted = round(min(max(wanted, 40.0), 400.0), 1)
    edit: Edit | None = None
    crossovers = measures.stack.crossovers
    if crossovers and abs(crossovers[0].frequency_hz - wanted) > 0.5:
        edit = MoveCrossover(crossover=crossovers[0].id, frequency_hz=wanted)
    return BorderAdvice(wanted, highest, f"{wanted:.0f} Hz: {why}.", edit)


def shifts(measures: Measures) -> list[Shift]:
    """How many notes fit 40–90 Hz for each transposition, and in which key the part would then be."""
    found = fundamentals(measures)
    whole = not recordings(measures.stack)  # a recording goes along with octaves alone
    result = []
    for semitones in range(-FURTHEST_SHIFT, FURTHEST_SHIFT + 1):
        key = shifted_key(measures.stack.key, semitones)
        edit = TransposePattern(semitones=semitones) if semitones and (whole or semitones % 12 == 0) else None
        result.append(Shift(semitones, key, fitting(found, semitones), len(found), edit))
    return result


def shapes(sub: Layer) -> list[Shape]:
    """Sounds for a sub that is made of waves of its own."""
    source = sub.source
    if not source.waves():
        return []
    plain = source.model_dump(mode="json")

    def shaped(name: str, *tones: dict[str, object]) -> Shape:
        phase = source.waves()[0].start_phase_deg
        placed = [{"start_phase_deg": phase, **tone} for tone in tones]
        return Shape(name, SetSource(layer=sub.id, source={**plain, "tones": placed}))

    path = f"layers/{sub.id}"
    dropping = bool(plain.get("drop_semitones"))
    drop: Edit = SetValue(path=f"{path}/source/drop_semitones", value=0.0 if dropping else 12.0)
    return [
        shaped("Sine", {"shape": "sine"}),
        shaped("Triangle", {"shape": "triangle"}),
        shaped("Sine, full", {"shape": "sine", "harmonics": [1.0, 0.0, round(FLATTEST_SINGLE_PEAK, 3)]}),
        shaped("Sine with 2 to 5", {"shape": "sine", "harmonics": [1.0, 0.25, 0.12, 0.08, 0.05]}),
        shaped("Sine and octave", {"shape": "sine"}, {"shape": "sine", "octave": 1, "level_db": -14.0}),
        Shape("Saturate", AddPart(path=f"{path}/path", part={"kind": "soft-clip", "drive_db": 6.0, "blend": 0.5})),
        Shape("Limiter", AddPart(path=f"{path}/path", part={"kind": "limiter"})),
        Shape("Compressor", AddPart(path=f"{path}/path", part={"kind": "compressor"})),
        Shape("No pitch drop" if dropping else "Pitch drop", drop),
    ]


def even_edit(measures: Measures) -> Edit | None:
    """Levels by pitch that even the sub out, measured after all that it passes through."""
    sub = measures.sub
    if sub is None:
        return None
    notes = [note for note in measures.notes[sub.id] if note.level_db > -70.0]
    if len(notes) < 2:
        return None
    return SetValue(path=f"layers/{sub.id}/note_levels_db", value=level_corrections(notes, sub.note_levels_db))


def subs_under(measures: Measures) -> list[tuple[Layer, PutSubUnder]]:
    """A clean sub under every layer that owns more than the lowest band."""
    advice, stack = border_advice(measures), measures.stack
    if advice is None or len(stack.layers) >= MOST_LAYERS:
        return []
    return [
        (layer, PutSubUnder(layer=layer.id, frequency_hz=min(400.0, advice.frequency_hz)))
        for layer in stack.layers
        if layer.span.last > 0 or not stack.crossovers
    ]


def subs_in_place(stack: Stack) -> list[tuple[Layer, SubInPlaceOf]]:
    """A clean sub in place of every layer that owns the lowest band alone."""
    owners = [layer for layer in stack.layers if layer.span.last == 0] if stack.crossovers else []
    return [(layer, SubInPlaceOf(layer=layer.id)) for layer in owners]


def fold_down_bands(measures: Measures) -> list[FoldDown]:
    """Loss in mono, balance, and the layer with the most side signal, between all borders and the mono border."""
    edges = sorted({20.0, *[c.frequency_hz for c in measures.stack.crossovers], 20000.0})
    centres = band_centres(THIRD)
    result = []
    for low, high in itertools.pairwise(edges):
        inside = (centres >= low) & (centres < high)
        bass = measures.bass
        both = float(np.sum(bass.left_power[inside] + bass.right_power[inside]))
        if both <= 1e-12:
            continue
        loss = -float(power_to_db(2.0 * float(np.sum(bass.mid_power[inside])) / both))
        balance = float(
            power_to_db(float(np.sum(bass.right_power[inside])) + 1e-12)
            - power_to_db(float(np.sum(bass.left_power[inside])) + 1e-12)
        )
        sides = {name: float(np.sum(stem.side_power[inside])) for name, stem in measures.stems.items()}
        worst = max(sides, key=lambda name: sides[name], default="")
        layer = measures.stack.layer(worst) if worst and sides[worst] > 1e-9 else None
        result.append(FoldDown(low, high, max(0.0, loss), balance, layer.name if layer else ""))
    return result
