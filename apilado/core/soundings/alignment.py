"""Plumb: from a stack's measurements to the layers' meetings, and from a solution to an edit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import cast

from apilado.core.document.declarations import parameter_at
from apilado.core.document.editing import Edit
from apilado.core.document.edits import AnyEdit, Several, apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
from apilado.core.document.naming import place_name, value_text
from apilado.core.document.path import Container
from apilado.core.document.stack import Stack
from apilado.core.measure.alignment import (
    Freedom,
    Goal,
    Meeting,
    NoteSpectrum,
    Setting,
    Solution,
    meeting,
    note_spectra,
    solutions,
)
from apilado.core.measure.phase import border_phase
from apilado.core.render.graph import build
from apilado.core.render.playing import root_of
from apilado.core.render.stage import Stage, stage
from apilado.core.soundings.asked import note_spans, octave_stage
from apilado.core.soundings.measures import Measures
from apilado.core.treatments.base import Treatment, Turning
from apilado.core.units import midi_to_hz, power_to_db

LONGEST_DELAY_MS = 50.0
WORTHWHILE_DB = 0.3
STANDING_DB = 1.0
WORSE_DB = 0.1
MOST_TRIED = 5
"""Settings that are rendered before it is given up."""


@dataclass(frozen=True)
class Advice:
    """What Plumb found and proposes."""

    goal: Goal
    meetings: tuple[Meeting, ...]
    solution: Solution
    edit: Several | None
    """What to apply; None where nothing helps, or nothing is needed."""
    reasons: tuple[str, ...]
    """Why no setting helps, where none does; and why layers drift."""


def meetings_of(measures: Measures) -> tuple[Meeting, ...]:
    """Every meeting of neighbours at a border, for each note that both play; before the duck."""
    return _meetings(measures, measures.stack, measures.graph.placed)


def _meetings(measures: Measures, stack: Stack, placed: dict[str, Stage]) -> tuple[Meeting, ...]:
    """The meetings in a stack whose layers are rendered on the clock that was measured."""
    clock, heard = measures.clock, stack.audible_layers()
    spectra: dict[str, dict[tuple[float, int], NoteSpectrum]] = {}

    def spectra_of(layer: Layer) -> dict[tuple[float, int], NoteSpectrum]:
        if layer.id not in spectra:
            spans = note_spans(stack, layer, clock)
            cut = tuple((span.first, span.frames) for span in spans)
            found = measures.run(stage(note_spectra, placed[layer.id], spans=cut, rate_hz=clock.rate_hz))
            spectra[layer.id] = {
                (span.start_beats, span.pitch): spectrum for span, spectrum in zip(spans, found, strict=True)
            }
        return spectra[layer.id]

    def pitch_hz(layer: Layer, pitch: int) -> float:
        return float(midi_to_hz(float(pitch + root_of(stack, layer).transpose)))

    result = []
    for index, crossover in enumerate(stack.crossovers):
        for lower in (layer for layer in heard if layer.span.last == index):
            for upper in (layer for layer in heard if layer.span.first == index + 1):
                below, above = spectra_of(lower), spectra_of(upper)
                for start, pitch in sorted(set(below) & set(above)):
                    pair = below[start, pitch], above[start, pitch]
                    note = (start, pitch, pitch_hz(lower, pitch), pitch_hz(upper, pitch))
                    names, border = (lower.id, upper.id), (index, crossover.frequency_hz)
                    result.append(meeting(names, border, note, *pair))
    return tuple(result)


def freedoms(stack: Stack, names: tuple[str, ...]) -> list[Freedom]:
    """What may be changed of the layers, the lowest first; layers of one tone share its start phase, treated or not."""
    chosen = [layer for layer in stack.layers if layer.id in names]
    chosen.sort(key=lambda layer: (layer.span.first, layer.span.last))
    result = []
    for layer in chosen:
        root = root_of(stack, layer)
        result.append(Freedom(layer.id, "" if root.source.turned(0.0) is None else root.id))
    return result


def advise(measures: Measures, goal: Goal = "worst", wanted: Callable[[], None] = lambda: None) -> Advice:
    """The settings that let all neighbours add up best, and what they make of each note.

    Every setting is rendered before it is offered: `solution.after_db` is measured, not predicted, and a setting that
    makes any border worse than it was is passed over for the next best. `wanted` is called now and then, and may raise
    to end the search.
    """
    found = meetings_of(measures)
    names = tuple({name for m in found for name in (m.lower, m.upper)})
    offers = solutions(found, freedoms(measures.stack, names), goal, wanted)
    judged = [i for i, m in enumerate(found) if m.meets and not m.drifts]
    before = tuple(m.present_db for m in found)
    edit, solution = None, replace(offers[0], before_db=before, after_db=before)
    tried = [offer for offer in offers if offer.changes and _gained(offer, judged, goal) >= WORTHWHILE_DB]
    for offer in tried[:MOST_TRIED]:
        wanted()
        wished = as_edit(measures.stack, offer)
        if wished is None:
            continue
        rendered = _after(measures, wished)
        true = replace(offer, before_db=before, after_db=tuple(m.present_db for m in rendered))
        if _gained(true, judged, goal) < WORTHWHILE_DB or _any_worse(found, rendered, judged, goal):
            continue
        if not _any_loop_worse(measures, wished, found):
            edit, solution = wished, true
            break
    reasons = drifting(measures.stack, found)
    if edit is None:
        why = why_not(found, solution, goal, refused=bool(tried))
        standing = bool(judged) and min(solution.before_db[i] for i in judged) > STANDING_DB
        reasons = (*why, *(() if standing else turned_by_steps(measures.stack, found)), *reasons)
    return Advice(goal, found, solution, edit, reasons)


def _any_loop_worse(measures: Measures, edit: Edit, found: tuple[Meeting, ...]) -> bool:
    """Whether any border is worse off over the whole loop, releases and all that is between notes included."""
    pairs = {(m.lower, m.upper): m.border_hz for m in found}
    graphs = measures.graph, build(apply(measures.stack, edit), measures.clock, measures.load)

    def gains(placed: dict[str, Stage]) -> list[float]:
        wanted = [
            stage(border_phase, *[octave_stage(placed[name], measures.clock, hz) for name in pair], names=pair)
            for pair, hz in pairs.items()
        ]
        return [phase.coherence_gain_db for phase in measures.run_all(wanted)]

    before, after = (gains(graph.placed) for graph in graphs)
    return any(now < then - WORSE_DB for then, now in zip(before, after, strict=True))


def _after(measures: Measures, edit: Edit) -> tuple[Meeting, ...]:
    """The same meetings after an edit, rendered."""
    stack = apply(measures.stack, edit)
    return _meetings(measures, stack, build(stack, measures.clock, measures.load).placed)


def _gained(solution: Solution, judged: list[int], goal: Goal) -> float:
    """By how much the goal comes nearer, in dB."""
    before, after = ([gains[i] for i in judged] for gains in (solution.before_db, solution.after_db))
    if not judged:
        return 0.0
    return min(after) - min(before) if goal == "worst" else (sum(after) - sum(before)) / len(judged)


def _any_worse(before: tuple[Meeting, ...], after: tuple[Meeting, ...], judged: list[int], goal: Goal) -> bool:
    """Whether any border is worse off: in its worst note (or the mean of its notes), or in all that meets there."""
    places: dict[tuple[str, str, int], list[int]] = {}
    for index, m in enumerate(before):
        places.setdefault((m.lower, m.upper, m.border), []).append(index)

    def by_notes(meetings: tuple[Meeting, ...], members: list[int]) -> float:
        gains = [meetings[i].present_db for i in members if i in judged]
        if not gains:
            return 0.0
        return min(gains) if goal == "worst" else sum(gains) / len(gains)

    def together(meetings: tuple[Meeting, ...], members: list[int]) -> float:
        power = sum(meetings[i].power for i in members)
        summed = sum(meetings[i].power * 10.0 ** (meetings[i].present_db / 10.0) for i in members)
        return float(power_to_db(summed / power)) if power > 0.0 else 0.0

    return any(
        reckoning(after, members) < reckoning(before, members) - WORSE_DB
        for members in places.values()
        for reckoning in (by_notes, together)
    )


def as_edit(stack: Stack, solution: Solution) -> Several | None:
    """The solution as one undoable edit; None if it changes nothing that can be written."""
    edits: list[AnyEdit] = []
    turned: dict[str, float] = {}
    delays = {name: setting.delay_ms + _delay(stack, name) for name, setting in solution.settings.items()}
    least = min(delays.values(), default=0.0)
    for name, setting in solution.settings.items():
        layer = stack.layer(name)
        if layer is None:
            continue
        turned[root_of(stack, layer).id] = setting.phase_cycles
        edits += _placement(layer, setting, delays[name] - least)
    for name, cycles in turned.items():
        root = stack.layer(name)
        if root is not None and abs(cycles) > 1e-4:
            values = root.source.turned(cycles) or {}
            edits += [SetValue(path=f"layers/{name}/source/{path}", value=value) for path, value in values.items()]
    return Several(name="Plumb the stack", edits=tuple(edits)) if edits else None


def _delay(stack: Stack, name: str) -> float:
    layer = stack.layer(name)
    return layer.delay_ms if layer else 0.0


def _placement(layer: Layer, setting: Setting, delay_ms: float) -> list[AnyEdit]:
    edits: list[AnyEdit] = []
    if setting.invert:
        flipped = "normal" if layer.polarity == "inverted" else "inverted"
        edits.append(SetValue(path=f"layers/{layer.id}/polarity", value=flipped))
    if abs(delay_ms - layer.delay_ms) > 1e-3:
        edits.append(SetValue(path=f"layers/{layer.id}/delay_ms", value=round(min(delay_ms, LONGEST_DELAY_MS), 3)))
    return edits


def change_in_words(stack: Stack, edit: AnyEdit) -> str:
    """One part of a solution in words: 'start phase of tone 1 of mid to 240 °'."""
    if not isinstance(edit, SetValue):
        return edit.title(stack, stack)
    said = value_text(parameter_at(stack, edit.path), edit.value)
    return f"{place_name(stack, edit.path)} to {said}"


def why_not(found: tuple[Meeting, ...], solution: Solution, goal: Goal, *, refused: bool) -> tuple[str, ...]:
    """Why nothing is proposed, in a sentence; `refused`: settings were found, and fell through when rendered."""
    judged = [i for i, m in enumerate(found) if m.meets and not m.drifts]
    if not found:
        return ("No two layers meet at a border.",)
    if not any(m.meets for m in found):
        return ("At every border one of the neighbours is far below the other: their phase does not matter.",)
    if not judged:
        return ("No two neighbours hold a steady phase.",)
    if min(solution.before_db[i] for i in judged) > STANDING_DB:
        return ("The layers stand plumb already.",)
    if refused:
        return ("Every setting that would help one border was tried, and makes another worse or does not hold.",)
    what = "the worst note" if goal == "worst" else "the mean of all notes"
    return (f"No setting makes {what} better by more than {WORTHWHILE_DB:g} dB.",)


def drifting(stack: Stack, found: tuple[Meeting, ...]) -> tuple[str, ...]:
    """For every layer that holds no phase against a neighbour, why."""
    reasons: list[str] = []
    for name in dict.fromkeys(name for m in found if m.meets and m.drifts for name in (m.lower, m.upper)):
        layer = stack.layer(name)
        if layer is not None:
            reasons += [why.format(layer=layer.name) for why in root_of(stack, layer).source.drifts()]
            if moving := turning_in(stack, layer, "moving"):
                said = (
                    f"{_listed(moving)} of '{layer.name}' {'turns' if len(moving) == 1 else 'turn'} its phase otherwise"
                )
                reasons.append(
                    f"{said} from moment to moment: no setting holds. Take it out of what meets at the border."
                )
    return tuple(dict.fromkeys(reasons))


def turned_by_steps(stack: Stack, found: tuple[Meeting, ...]) -> tuple[str, ...]:
    """For every layer that meets another, which of its steps turn its phase otherwise at each frequency."""
    reasons = []
    for name in dict.fromkeys(name for m in found if m.meets and not m.drifts for name in (m.lower, m.upper)):
        layer = stack.layer(name)
        steps = turning_in(stack, layer, "fixed") if layer is not None else []
        if layer is not None and steps:
            said = f"{_listed(steps)} of '{layer.name}' {'turns' if len(steps) == 1 else 'turn'} each note otherwise"
            reasons.append(f"{said}: one setting does not fit them all.")
    return tuple(reasons)


def turning_in(stack: Stack, layer: Layer, how: Turning) -> list[str]:
    """What the steps are called of a layer, and of those whose treated sound it takes, that turn phases so."""
    named, each = [], layer
    while True:
        for step in stack.steps_of(f"layers/{each.id}").values():
            turns = step.turns_phase() if isinstance(step, Treatment | Container) and step.on else ""
            named += [step.label] if turns == how else []
        followed = each.source.follows()
        if followed is None or each.source.follows(treated=False) is not None:
            return list(dict.fromkeys(named))
        each = cast(Layer, stack.layer(followed))


def _listed(names: list[str]) -> str:
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)
