"""Soundings of what the sub is made of: octave, dryness, ends, starts, fullness."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from apilado.core.document.addresses import joined
from apilado.core.document.editing import Edit
from apilado.core.document.edits import AnyEdit, Several
from apilado.core.document.edits_values import RemovePart, SetHarmonic, SetValue
from apilado.core.document.layer import Layer
from apilado.core.measure.fullness import FLATTEST_SINGLE_PEAK, LOWEST_PEAK
from apilado.core.render.playing import root_of, voice_of
from apilado.core.soundings.carving import point_edit
from apilado.core.soundings.further import sub_clicks
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding, Status
from apilado.core.soundings.step_levels import treatments_heard
from apilado.core.soundings.sub import NOTHING
from apilado.core.sources.wave import Tone
from apilado.core.units import bar_and_beat, midi_to_hz, power_ratio_db

SEMITONE = 2.0 ** (1.0 / 12.0)
RUMBLE_HZ = 30.0
EMPTY_DB = 20.0
BARE_SUB_HZ = 150.0
SHORTEST_ATTACK_MS, SHORTEST_RELEASE_MS = 1.5, 10.0


def tone_of(measures: Measures, layer: Layer) -> tuple[str, tuple[Tone, ...]] | None:
    """(path of the source, its waves) of what a layer sounds with, if that is made of waves."""
    root = root_of(measures.stack, layer)
    waves = root.source.waves()
    return (f"layers/{root.id}/source", waves) if waves else None


def sub_place(measures: Measures, sub: Layer) -> Place:
    """The band that the sub owns."""
    borders = measures.stack.crossovers
    high = borders[sub.span.last].frequency_hz if sub.span.last < len(borders) else BARE_SUB_HZ
    return Place((sub.id,), 20.0, high)


def _around(measures: Measures, hertz: float) -> float:
    mid, side = measures.bass.power_between(hertz / SEMITONE, hertz * SEMITONE)
    return mid + side


def sub_octave(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is there energy at the notes' fundamentals, and not an octave below?"""
    sub, stack = measures.sub, measures.stack
    pitches = {note.pitch for note in stack.played() if note.start_beats < stack.beats}
    wanted = {pitch: float(midi_to_hz(float(pitch))) for pitch in pitches}
    if sub is None or not wanted or not measures.sounding:
        return []
    # The octave in which the part is meant: the one that brings its pitches into the sub's range.
    while min(wanted.values()) > 90.0:
        wanted = {pitch: hertz / 2.0 for pitch, hertz in wanted.items()}
    meant = set(wanted)
    there = sum(_around(measures, hertz) for hertz in wanted.values())
    # An octave that is another note's own place says nothing.
    below = sum(_around(measures, hertz / 2.0) for pitch, hertz in wanted.items() if pitch - 12 not in meant)
    above = sum(_around(measures, hertz * 2.0) for pitch, hertz in wanted.items() if pitch + 12 not in meant)
    if there + below + above <= NOTHING * measures.bass.power:
        return []
    value = power_ratio_db(below, there)
    empty = power_ratio_db(above, there)
    where, place = f"layers/{sub.id}", Place((sub.id,), min(wanted.values()) / 2.0, max(wanted.values()))
    limit = f"{limits.look:g} dB"
    if empty > EMPTY_DB:
        text = f"The notes' fundamentals lie {empty:.0f} dB under their octave: the bottom is empty."
        ways = partial(_octave_ways, measures, sub, -12)
        return [rule.sounding("fault", value, limit, where, text, show=place, judged=limits.fault + empty, ways=ways)]
    if value > limits.look:
        text = f"The octave below the notes is only {-value:.0f} dB under them: an octave too low rattles."
        if value > 0.0:
            text = f"The octave below the notes is {value:.0f} dB louder than they are: an octave too low rattles."
        ways = partial(_octave_ways, measures, sub, 12)
        return [rule.sounding(limits.status(value), value, limit, where, text, show=place, ways=ways)]
    text = f"The notes sound at their fundamentals; the octave below is {-value:.0f} dB under them."
    return [rule.sounding("fine", value, limit, where, text, show=place)]


def _octave_ways(measures: Measures, sub: Layer, by: int) -> Iterator[Edit | None]:
    """The sub by an octave, or by two; what sounds as low as it does, through a high-pass."""
    root, stack = root_of(measures.stack, sub), measures.stack
    if root.source.plays_notes:
        for shift in (by, 2 * by, -by):
            yield SetValue(path=f"layers/{root.id}/transpose", value=root.transpose + shift)
    if by > 0:
        lowest = min(measures.fundamentals.values(), default=50.0)
        part = {"kind": "high-pass", "frequency_hz": round(0.75 * lowest, 1), "slope_db_per_octave": 48}
        yield point_edit(stack, "bus", part)


def sub_dry(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is the sub free of copies, width and effects?"""
    sub = measures.sub
    if sub is None:
        return []
    where, place, limit = f"layers/{sub.id}", sub_place(measures, sub), "one voice, no width"
    edits: list[AnyEdit] = []
    said = []
    tone = tone_of(measures, sub)
    copies = max((t.copies for t in tone[1]), default=1) if tone else 1
    if tone and copies > 1:
        said.append(f"{copies} detuned copies, which beat against each other")
        edits += [SetValue(path=f"{tone[0]}/tones/{t.id}/copies", value=1) for t in tone[1]]
    stem = measures.stems[sub.id]
    wide = float(stem.side_power.sum()) > 1e-6 * float(stem.mid_power.sum())
    if wide:
        said.append("width")
        edits.append(SetValue(path=f"{where}/mono", value=True))
    blurring = {a: s for a, s in treatments_heard(measures.stack, measures.graph, where).items() if s.blurs}
    said += [step.label.lower() for step in blurring.values()]
    edits += [SetValue(path=joined(address, "on"), value=False) for address in blurring]
    if where in measures.stack.senders():
        said.append("a send to the space")
        edits += _unsent(measures, where)
    if not said:
        text = f"'{sub.name}' is dry: one voice, no width, no echo and no space."
        return [rule.sounding("fine", float(copies), limit, where, text, show=place)]
    text = f"'{sub.name}' has {' and '.join(said)}: the low end smears and moves."
    status: Status = limits.status(float(copies))
    status = "look" if status == "fine" else status

    def ways() -> Iterator[Edit | None]:
        yield Several(name="Dry the sub", edits=tuple(edits)) if edits else None
        yield from edits if len(edits) > 1 else ()

    return [rule.sounding(status, float(copies), limit, where, text, show=place, ways=ways)]


def _unsent(measures: Measures, owner: str) -> list[AnyEdit]:
    """Edits by which an owner sends nothing to the space: its send, and what moves it."""
    path, stack = joined(owner, "send"), measures.stack
    moved = [m for m in stack.movements if any(target.path == path for target in m.targets)]
    targets = [joined("movements", m.id, "targets", t.id) for m in moved for t in m.targets if t.path == path]
    changes = [joined("sections", s.id, "changes", c.id) for s in stack.sections for c in s.changes if c.path == path]
    return [SetValue(path=path, value=0.0), *(RemovePart(path=each) for each in (*targets, *changes))]


def sub_ends(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is the bass clean below 30 Hz?"""
    if not measures.sounding or measures.sub is None:
        return []
    mid, side = measures.bass.power_between(2.0, RUMBLE_HZ)
    value = power_ratio_db(mid + side, measures.bass.power)
    status = limits.status(value)
    place, limit = Place((), 20.0, RUMBLE_HZ), f"{limits.look:g} dB"
    if status == "fine":
        text = f"Below {RUMBLE_HZ:.0f} Hz lies {-value:.0f} dB less than the whole: clean."
        return [rule.sounding(status, value, limit, "bus", text, show=place)]
    text = f"Below {RUMBLE_HZ:.0f} Hz lies only {-value:.0f} dB less than the whole: it eats headroom and is not heard."
    ways = partial(_rumble_ways, measures)
    return [rule.sounding(status, value, limit, "bus", text, show=place, ways=ways)]


def _rumble_ways(measures: Measures) -> Iterator[Edit | None]:
    """A high-pass on the bus, steeper or higher, or on the layer that sounds loudest down there."""
    loudest = max(
        measures.stack.audible_layers(),
        key=lambda layer: sum(measures.stems[layer.id].power_between(2.0, RUMBLE_HZ)),
    )
    for owner, hertz, slope in (
        ("bus", 33.0, 24),
        ("bus", 33.0, 48),
        (f"layers/{loudest.id}", 33.0, 48),
        ("bus", 38.0, 48),
    ):
        part = {"kind": "high-pass", "frequency_hz": hertz, "slope_db_per_octave": slope}
        yield point_edit(measures.stack, owner, part)


def sub_start(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Does every note of the sub begin alike, without a click?"""
    sub = measures.sub
    tone = tone_of(measures, sub) if sub else None
    if sub is None or tone is None:
        return []
    path, waves = tone
    where, place, limit = f"layers/{sub.id}", sub_place(measures, sub), "fixed, no click"
    edits: list[AnyEdit] = []
    said = []
    for each in waves:
        if each.phase == "free":
            edits.append(SetValue(path=f"{path}/tones/{each.id}/phase", value="fixed"))
    if edits:
        said.append("begins every note with another phase, so that no two notes meet the layers above alike")
    heard = sub_clicks(measures)
    if heard:
        beats = tuple(measures.beat_of(click.frame) for click in heard)
        place = Place(place.layers, place.low_hz, place.high_hz, beats)
        said.append(f"clicks at {_beats_said(measures, beats)}, {-heard[0].level_db:.0f} dB under its own peak")
        edits += _softer_ends(measures, sub)
    value = float(len(said) + max(0, len(heard) - 1))
    if not said:
        text = f"Every note of '{sub.name}' begins with the same phase, and nothing clicks, nor where the loop joins."
        return [rule.sounding("fine", value, limit, where, text, show=place)]
    text = f"'{sub.name}' {', and '.join(said)}."

    def ways() -> Iterator[Edit | None]:
        yield Several(name="Mend the sub's ends", edits=tuple(edits)) if edits else None

    return [rule.sounding(limits.status(value), value, limit, where, text, show=place, ways=ways)]


def _softer_ends(measures: Measures, sub: Layer) -> list[AnyEdit]:
    """A voice of the sub's own that neither begins nor ends too quickly, where its voice does."""
    root, voice = root_of(measures.stack, sub), voice_of(measures.stack, sub)
    ends = {
        name: 2.0 * shortest
        for name, shortest in (("attack_ms", SHORTEST_ATTACK_MS), ("release_ms", SHORTEST_RELEASE_MS))
        if getattr(voice.envelope, name) < shortest
    }
    own = voice.model_copy(update={"envelope": voice.envelope.model_copy(update=ends)})
    return [SetValue(path=f"layers/{root.id}/voice", value=own.model_dump(mode="json"))] if ends else []


def _beats_said(measures: Measures, beats: tuple[float, ...]) -> str:
    """Where clicks are: the beat, the seam, or how many places there are."""
    if len(beats) > 1:
        return f"{len(beats)} places"
    if min(beats[0], measures.clock.beats - beats[0]) < 0.05:
        return "the loop's seam"
    return bar_and_beat(beats[0], measures.stack.beats_per_bar)


def sub_full(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Has the sub's cycle a single peak?"""
    sub, full = measures.sub, measures.fullness
    if sub is None or full is None:
        return []
    where, place = f"layers/{sub.id}", sub_place(measures, sub)
    limit = "third harmonic 1/9"
    value = 100.0 * full.third
    status: Status = limits.status(value)
    shown = f"third harmonic {100.0 * abs(full.third):.0f} % {'against' if full.third >= 0.0 else 'with'} the peak"
    if status == "fine":
        text = f"One cycle of '{sub.name}': crest {full.crest_db:.1f} dB, {shown}, a single peak."
        if full.double_peak:
            text = (
                f"One cycle of '{sub.name}': crest {full.crest_db:.1f} dB, {shown}; other harmonics give it two peaks."
            )
        return [rule.sounding(status, value, limit, where, text, show=place)]
    text = f"One cycle of '{sub.name}' has two peaks: {shown}, beyond 11 %."
    if full.third > LOWEST_PEAK:
        text = f"One cycle of '{sub.name}' peaks higher again: {shown}, beyond 17 % it only adds peak."
    ways = partial(_third_ways, measures, sub)
    return [rule.sounding(status, value, limit, where, text, show=place, ways=ways)]


def _third_ways(measures: Measures, sub: Layer) -> Iterator[Edit | None]:
    """The third harmonic of a lone wave to where it gives the flattest single peak, or less of it, or none."""
    tone = tone_of(measures, sub)
    if tone is None or len(tone[1]) != 1:
        return
    only = tone[1][0]
    first = only.harmonics[:1]
    base = first[0] if first and first[0] is not None else 1.0
    for share in (FLATTEST_SINGLE_PEAK, FLATTEST_SINGLE_PEAK / 2.0, 0.0):
        yield SetHarmonic(path=f"{tone[0]}/tones/{only.id}", number=3, amplitude=round(base * share, 3))


RULES = (
    Rule("sub-octave", "Right octave", "dB", Limits(-12.0, 0.0), "common practice", sub_octave),
    Rule("sub-dry", "Sub dry", "voices", Limits(1.0, 4.0), "common practice", sub_dry),
    Rule("sub-ends", "Clean bottom", "dB", Limits(-24.0, -12.0), "common practice", sub_ends),
    Rule("sub-start", "Sub starts alike", "to mend", Limits(0.0, 2.0), "common practice", sub_start),
    Rule(
        "sub-full",
        "Sub full",
        "% third",
        Limits(100.0 * FLATTEST_SINGLE_PEAK + 0.5, 100.0 * LOWEST_PEAK + 0.5),
        "third-harmonic injection: 1/9 flattest single peak, 1/6 lowest peak",
        sub_full,
    ),
)
