"""Plumb: from a stack's measurements to the layers' meetings, and from a solution to an edit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from apilado.core.document.edits import AnyEdit, Several
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
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
    solve,
)
from apilado.core.render.builder import layer_notes, source_root
from apilado.core.render.stage import stage
from apilado.core.soundings.measures import Measures, note_spans
from apilado.core.sources.tone import ToneSource
from apilado.core.units import midi_to_hz

LONGEST_DELAY_MS = 50.0
WORTHWHILE_DB = 0.3
STANDING_DB = 1.0


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
    stack, clock = measures.stack, measures.clock
    heard = stack.audible_layers()
    spectra: dict[str, dict[tuple[float, int], NoteSpectrum]] = {}

    def spectra_of(layer: Layer) -> dict[tuple[float, int], NoteSpectrum]:
        if layer.id not in spectra:
            spans = note_spans(layer_notes(stack, layer), clock)
            placed = measures.graph.placed[layer.id]
            cut = tuple((first, frames) for _, _, first, frames in spans)
            found = measures.run(stage(note_spectra, placed, spans=cut, rate_hz=clock.rate_hz))
            spectra[layer.id] = {
                (start, pitch): spectrum for (start, pitch, _, _), spectrum in zip(spans, found, strict=True)
            }
        return spectra[layer.id]

    result = []
    for index, crossover in enumerate(stack.crossovers):
        for lower in (layer for layer in heard if layer.span.last == index):
            for upper in (layer for layer in heard if layer.span.first == index + 1):
                below, above = spectra_of(lower), spectra_of(upper)
                for start, pitch in sorted(set(below) & set(above)):
                    hertz = float(midi_to_hz(float(pitch + source_root(stack, lower).transpose)))
                    pair = below[start, pitch], above[start, pitch]
                    names, border = (lower.id, upper.id), (index, crossover.frequency_hz)
                    result.append(meeting(names, border, (start, pitch, hertz), *pair))
    return tuple(result)


def freedoms(stack: Stack, names: tuple[str, ...]) -> list[Freedom]:
    """What may be changed of the layers, the lowest first; layers of one tone share its start phase."""
    chosen = [layer for layer in stack.layers if layer.id in names]
    chosen.sort(key=lambda layer: (layer.span.first, layer.span.last))
    result = []
    for layer in chosen:
        root = source_root(stack, layer)
        source = root.source
        has_phase = isinstance(source, ToneSource) and all(tone.phase == "fixed" for tone in source.tones)
        result.append(Freedom(layer.id, root.id if has_phase else ""))
    return result


def advise(measures: Measures, goal: Goal = "worst", wanted: Callable[[], None] = lambda: None) -> Advice:
    """The settings that let all neighbours add up best, and what they promise for each note.

    `wanted` is called now and then, and may raise to end the search.
    """
    found = meetings_of(measures)
    names = tuple({name for m in found for name in (m.lower, m.upper)})
    solution = solve(found, freedoms(measures.stack, names), goal, wanted)
    judged = [i for i, m in enumerate(found) if m.meets and not m.drifts]
    edit = None
    if solution.changes and judged:
        before = [solution.before_db[i] for i in judged]
        after = [solution.after_db[i] for i in judged]
        gained = min(after) - min(before) if goal == "worst" else (sum(after) - sum(before)) / len(judged)
        if gained >= WORTHWHILE_DB:
            edit = as_edit(measures.stack, solution)
    reasons = drifting(measures.stack, found)
    if edit is None:
        reasons = (*why_not(found, solution), *reasons)
    return Advice(goal, found, solution, edit, reasons)


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
        turned[source_root(stack, layer).id] = setting.phase_cycles
        edits += _placement(layer, setting, delays[name] - least)
    for name, cycles in turned.items():
        root = stack.layer(name)
        if root is not None and abs(cycles) > 1e-4 and isinstance(root.source, ToneSource):
            edits += _phases(name, root.source, cycles)
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


def _phases(layer: str, source: ToneSource, cycles: float) -> list[AnyEdit]:
    """The whole sound earlier by cycles of the note: each of its tones by as many of its own."""
    edits: list[AnyEdit] = []
    for index, tone in enumerate(source.tones):
        degrees = (tone.start_phase_deg + 360.0 * cycles * tone.ratio()) % 360.0
        path = f"layers/{layer}/source/tones/{index}/start_phase_deg"
        edits.append(SetValue(path=path, value=round(degrees, 1) % 360.0))
    return edits


def change_in_words(stack: Stack, edit: AnyEdit) -> str:
    """One part of a solution in words: 'mid: start phase of tone 1 to 240°'."""
    if not isinstance(edit, SetValue):
        return edit.title()
    _, name, *rest = edit.path.split("/")
    layer = stack.layer(name)
    shown = layer.name if layer else name
    if rest[-1] == "start_phase_deg":
        return f"{shown}: start phase of tone {int(rest[-2]) + 1} to {edit.value:g}°"
    if rest[-1] == "delay_ms":
        return f"{shown}: delay to {edit.value:g} ms"
    return f"{shown}: polarity {edit.value}"


def why_not(found: tuple[Meeting, ...], solution: Solution) -> tuple[str, ...]:
    """Why nothing is proposed, in a sentence."""
    judged = [i for i, m in enumerate(found) if m.meets and not m.drifts]
    if not found:
        return ("No two layers meet at a border.",)
    if not any(m.meets for m in found):
        return ("At every border one of the neighbours is far below the other: their phase does not matter.",)
    if not judged:
        return ("No two neighbours hold a steady phase.",)
    if min(solution.before_db[i] for i in judged) > STANDING_DB:
        return ("The layers stand plumb already.",)
    return ("No setting makes the worst note better by more than 0.3 dB.",)


def drifting(stack: Stack, found: tuple[Meeting, ...]) -> tuple[str, ...]:
    """For every layer that holds no phase against a neighbour, why."""
    reasons: list[str] = []
    for name in dict.fromkeys(name for m in found if m.meets and m.drifts for name in (m.lower, m.upper)):
        layer = stack.layer(name)
        if layer is not None:
            reasons += _why_it_drifts(stack, layer)
    return tuple(dict.fromkeys(reasons))


def _why_it_drifts(stack: Stack, layer: Layer) -> list[str]:
    source = source_root(stack, layer).source
    if not isinstance(source, ToneSource):
        return [f"'{layer.name}' is a recording: where it was played against the others in pitch, no setting holds."]
    said = []
    if any(tone.copies > 1 and tone.detune_cents > 0.0 for tone in source.tones):
        said.append(f"The detuned copies of '{layer.name}' drift against its neighbours: fewer copies, or none below.")
    if any(tone.phase == "free" for tone in source.tones):
        said.append(f"'{layer.name}' begins every note with another phase: fix its start phase.")
    if any(abs(tone.cents) > 0.0 or tone.semitones % 12 for tone in source.tones):
        said.append(f"'{layer.name}' plays other pitches than its neighbours: they cannot keep one phase.")
    return said
