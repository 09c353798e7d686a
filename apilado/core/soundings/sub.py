"""Soundings of the sub: range, evenness, mono."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import replace
from functools import partial

from apilado.core.document.editing import Edit
from apilado.core.document.edits import AnyEdit, Several
from apilado.core.document.edits_pattern import TransposePattern
from apilado.core.document.edits_values import SetValue
from apilado.core.document.forms import values_over
from apilado.core.document.layer import Layer
from apilado.core.measure.notes import NoteMeasure
from apilado.core.render.playing import expected_hz, layer_notes, root_of
from apilado.core.soundings.further import notes_after
from apilado.core.soundings.measures import QUIET_DB, Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding, Status
from apilado.core.soundings.step_levels import mono_border
from apilado.core.units import midi_to_name, power_ratio_db

SUB_LOW_HZ, SUB_HIGH_HZ = 40.0, 90.0
SAME_DB = 0.5
NOTHING = 1e-9
"""A share of the whole bass under which there is nothing to judge: -90 dB."""


def sub_range(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Are the sub's fundamentals between 40 and 90 Hz?"""
    sub = measures.sub
    if sub is None:
        return []
    notes = _heard(measures.notes[sub.id])
    heard = [(note, note.frequency_hz or expected_hz(measures.stack, sub, note.pitch)) for note in notes]
    if not heard:
        return []
    out = [(note, hz) for note, hz in heard if not SUB_LOW_HZ <= hz <= SUB_HIGH_HZ]
    share = 100.0 * len(out) / len(heard)
    status = limits.status(share)
    where = f"layers/{sub.id}"
    limit = f"{SUB_LOW_HZ:.0f}–{SUB_HIGH_HZ:.0f} Hz"
    if not out:
        text = f"All {len(heard)} notes of '{sub.name}' lie between {limit.replace('–', ' and ')}."
        return [rule.sounding(status, share, limit, where, text, show=Place((sub.id,), SUB_LOW_HZ, SUB_HIGH_HZ))]
    frequencies = sorted({round(hz) for _, hz in out})
    named = ", ".join(f"{hz} Hz" for hz in frequencies[:4])
    text = (
        f"{len(out)} of {len(heard)} notes of '{sub.name}' {'lies' if len(out) == 1 else 'lie'} outside {limit}: "
        f"{named}. Lower is lost on most systems, higher stops feeling like sub."
    )
    beats = tuple(note.start_beats for note, _ in out)
    place = Place((sub.id,), SUB_LOW_HZ, SUB_HIGH_HZ, beats)
    ways = partial(_range_ways, measures, sub, heard)
    return [rule.sounding(status, share, limit, where, text, show=place, ways=ways)]


def _range_ways(measures: Measures, sub: Layer, heard: list[tuple[NoteMeasure, float]]) -> Iterator[Edit | None]:
    """Only the notes that lie outside by an octave, the sub by octaves, the whole piece: the least first."""
    low = {note.pitch for note, hz in heard if hz < SUB_LOW_HZ and 2.0 * hz <= SUB_HIGH_HZ}
    high = {note.pitch for note, hz in heard if hz > SUB_HIGH_HZ and hz / 2.0 >= SUB_LOW_HZ}
    root = root_of(measures.stack, sub)
    if (low or high) and len(low | high) < len({note.pitch for note, _ in heard}):
        edits = [
            TransposePattern(semitones=by, pitches=tuple(sorted(pitches)))
            for by, pitches in ((12, low), (-12, high))
            if pitches
        ]
        yield edits[0] if len(edits) == 1 else Several(name="Notes outside by an octave", edits=tuple(edits))
    shifts = sorted(range(-24, 25), key=lambda s: (-fitting([hz for _, hz in heard], s), abs(s), s))
    if root.source.plays_notes:
        for by in [shift for shift in shifts if shift and shift % 12 == 0][:2]:
            yield SetValue(path=f"layers/{root.id}/transpose", value=root.transpose + by)
    for by in [shift for shift in shifts if shift][:2]:
        yield TransposePattern(semitones=by)


def fitting(frequencies_hz: list[float], shift: int) -> int:
    """How many of the frequencies are in the sub's range after a shift in semitones."""
    ratio = 2.0 ** (shift / 12.0)
    return sum(SUB_LOW_HZ <= hz * ratio <= SUB_HIGH_HZ for hz in frequencies_hz)


def sub_even(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Has every note of the sub the same level?"""
    sub = measures.sub
    if sub is None:
        return []
    notes = _as_the_whole(measures, sub, _heard(measures.notes[sub.id]))
    if len(notes) < 2:
        return []
    loud, quiet = max(notes, key=lambda n: n.level_db), min(notes, key=lambda n: n.level_db)
    spread = loud.level_db - quiet.level_db
    status = limits.status(spread)
    text = f"The notes of '{sub.name}' lie within {spread:.1f} dB of each other."
    if status != "fine":
        transpose = root_of(measures.stack, sub).transpose
        names = [midi_to_name(n.pitch + transpose) for n in (loud, quiet)]
        text = f"'{sub.name}' spreads over {spread:.1f} dB: {names[0]} booms, {names[1]} is {spread:.1f} dB below it."
        left = spread_within_pitches(notes)
        if left > limits.look:
            text += f" The same pitch differs by {left:.1f} dB from note to note, which no level by pitch can mend."
    place = Place((sub.id,), beats=(loud.start_beats, quiet.start_beats))
    limit = f"{limits.look:g} dB"
    ways = partial(even_ways, measures, sub)
    return [rule.sounding(status, spread, limit, f"layers/{sub.id}", text, show=place, ways=ways)]


def even_ways(measures: Measures, sub: Layer) -> Iterator[Edit | None]:
    """Ways to even the sub out: a level for each pitch; velocity off, phases fixed, one copy, and then levels.

    A level by pitch comes last in a layer, so what it leaves is known: the spread within the pitches. Where that is
    much, what may cause it is taken away first, as far as it is there.
    """
    path = f"layers/{sub.id}/note_levels_db"
    notes = _as_the_whole(measures, sub, _heard(measures.notes[sub.id]))
    plain = Several(
        name=f"A level for each pitch of {sub.name}"[:80],
        edits=(SetValue(path=path, value=level_corrections(notes, sub.note_levels_db)),),
    )
    left = spread_within_pitches(notes)
    if left <= SAME_DB:
        yield plain
        return
    found: list[tuple[float, Edit]] = [(left, plain)]
    for name, causes in _uneven_causes(measures, sub):
        after = _heard(notes_after(measures, Several(name=name, edits=causes), sub.id))
        without = _as_the_whole(measures, sub, after)
        if not without:
            continue
        level = SetValue(path=path, value=level_corrections(without, sub.note_levels_db))
        both = Several(name=f"{name}, and a level for each pitch", edits=(*causes, level))
        found.append((spread_within_pitches(without), both))
    best = min(each for each, _ in found)
    yield next(way for each, way in found if each <= best + SAME_DB)  # the plainest of those that are as good
    yield from [way for _, way in sorted(found, key=lambda each: each[0])]


def _uneven_causes(measures: Measures, sub: Layer) -> Iterator[tuple[str, tuple[AnyEdit, ...]]]:
    """What lets notes of one pitch differ, as edits that take it away: each, and all together."""
    root = root_of(measures.stack, sub)
    tones = [(f"layers/{root.id}/source/tones/{tone.id}", tone) for tone in root.source.waves()]
    found: list[tuple[str, tuple[AnyEdit, ...]]] = []
    if len({note.velocity for note in layer_notes(measures.stack, sub)}) > 1 and root.source.velocity_share() > 0.0:
        found.append(("Velocity off", (SetValue(path=f"layers/{root.id}/source/velocity", value=0.0),)))
    free = tuple(SetValue(path=f"{at}/phase", value="fixed") for at, tone in tones if tone.phase == "free")
    if free:
        found.append(("Phases fixed", free))
    beating = tuple(SetValue(path=f"{at}/copies", value=1) for at, tone in tones if tone.copies > 1)
    if beating:
        found.append(("One copy each", beating))
    yield from found
    if len(found) > 1:
        yield (
            ", ".join([found[0][0], *[name.lower() for name, _ in found[1:]]]),
            tuple(e for _, es in found for e in es),
        )


def _heard(notes: tuple[NoteMeasure, ...]) -> list[NoteMeasure]:
    return [note for note in notes if note.level_db > QUIET_DB]


def _as_the_whole(measures: Measures, sub: Layer, notes: list[NoteMeasure]) -> list[NoteMeasure]:
    """The notes at the level that they would have if no section had the sub louder or quieter: that is wanted."""
    levels = values_over(measures.stack, f"layers/{sub.id}/level_db")
    if len(levels) == 1:
        return notes
    bars = [bar for bar, _ in levels]
    found = []
    for note in notes:
        place = bisect_right(bars, note.start_beats // measures.stack.beats_per_bar) - 1
        found.append(replace(note, level_db=note.level_db - (levels[place][1] - sub.level_db)))
    return found


def spread_within_pitches(notes: list[NoteMeasure]) -> float:
    """The largest difference in dB between notes of one pitch."""
    levels: dict[int, list[float]] = {}
    for note in notes:
        levels.setdefault(note.pitch, []).append(note.level_db)
    return max(max(of_pitch) - min(of_pitch) for of_pitch in levels.values())


def level_corrections(notes: list[NoteMeasure], present: dict[int, float]) -> dict[str, float]:
    """Levels by pitch that bring every pitch to the mean of all, on top of those present; -24 to 24 dB."""
    by_pitch: dict[int, list[float]] = {}
    for note in notes:
        by_pitch.setdefault(note.pitch, []).append(note.level_db)
    means = {pitch: (max(levels) + min(levels)) / 2.0 for pitch, levels in by_pitch.items()}
    target = sum(means.values()) / len(means)
    return {
        str(pitch): round(min(24.0, max(-24.0, present.get(pitch, 0.0) + target - level)), 2)
        for pitch, level in sorted(means.items())
    }


def sub_mono(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is there side signal below the mono border?"""
    border = mono_border(measures.stack)
    mid, side = measures.bass.power_between(20.0, border)
    if mid + side <= NOTHING * measures.bass.power:
        return []
    value = power_ratio_db(side, mid)
    status: Status = limits.status(value)
    limit = f"{limits.look:g} dB"
    place = Place((), 20.0, border)
    if status == "fine":
        said = "no side signal" if value < -90.0 else f"side {-value:.0f} dB under mid"
        text = f"Below {border:.0f} Hz the bass is mono: {said}."
        return [rule.sounding(status, value, limit, "bus", text, show=place)]
    wide = max(
        measures.stack.audible_layers(), key=lambda layer: measures.stems[layer.id].power_between(20.0, border)[1]
    )
    text = (
        f"Below {border:.0f} Hz side is {-value:.0f} dB under mid, wanted {-limits.look:g}; most of it from "
        f"'{wide.name}'. It cancels in mono and wanders on big systems."
    )
    place = Place((wide.id,), 20.0, border)
    ways = partial(_mono_ways, measures, wide, border)
    return [rule.sounding(status, value, limit, f"layers/{wide.id}", text, show=place, ways=ways)]


def _mono_ways(measures: Measures, wide: Layer, border_hz: float) -> Iterator[Edit | None]:
    """A sub mono altogether, another layer mono below the border, or the whole bass."""
    if wide.span.first == 0:
        yield SetValue(path=f"layers/{wide.id}/mono", value=True)
    for by in (1.0, 1.5):
        yield SetValue(path=f"layers/{wide.id}/mono_below_hz", value=round(by * border_hz))
        yield SetValue(path="bus/mono_below_hz", value=min(500.0, round(by * border_hz)))


RULES = (
    Rule("sub-range", "Sub in range", "% of notes", Limits(0.0, 25.0), "common practice", sub_range),
    Rule("sub-even", "Sub even", "dB", Limits(1.5, 4.0), "common practice", sub_even),
    Rule("sub-mono", "Sub mono", "dB", Limits(-40.0, -30.0), "common practice", sub_mono),
)
