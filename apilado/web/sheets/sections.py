"""The sheet of a section: its bars, what is otherwise in it, and what is done with sections most often."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from apilado.core.document.addresses import find, joined
from apilado.core.document.declarations import parameter_at, still_because, value_at
from apilado.core.document.edits_sections import bars_in_words
from apilado.core.document.naming import place_name, value_text
from apilado.core.document.section import PieceSection
from apilado.core.document.stack import Stack
from apilado.core.parameters import leading_of
from apilado.core.treatments.base import Treatment
from apilado.web.sheets.base import Action, Field, Section, fields_of, menu_field

LEVEL_RISES_DB = -12.0


@dataclass(frozen=True)
class Otherwise:
    """How the control of a value tells that sections have it otherwise."""

    give_back: dict[str, Any] | None = None
    """The edit that has the chosen section as the whole again; None where the whole piece is chosen."""
    names: str = ""
    """The sections that have it otherwise than the whole, which is chosen."""


def otherwise(stack: Stack, section_id: str) -> dict[str, Otherwise]:
    """By its address, how each value is marked that the chosen section, or any of them, has otherwise."""
    chosen = find(stack, joined("sections", section_id)) if section_id else None
    if isinstance(chosen, PieceSection):
        return {c.path: Otherwise(give_back=_back(chosen, c.path)) for c in chosen.changes}
    names: dict[str, list[str]] = {}
    for section in stack.sections:
        for change in section.changes:
            names.setdefault(change.path, []).append(section.name)
    return {path: Otherwise(names=" and ".join(found)) for path, found in names.items()}


def _back(section: PieceSection, what: str) -> dict[str, Any]:
    return {"op": "give-back", "section": section.id, "what": what}


def section_sections(stack: Stack, selected: str) -> tuple[Section, ...]:
    """Everything of a section; of one that is gone, nothing."""
    section = find(stack, joined("sections", selected.partition(":")[2]))
    if not isinstance(section, PieceSection):
        return ()
    here = joined("sections", section.id)
    name, *_ = fields_of(section, here, "name")
    bars = {"op": "section", "section": section.id, "first_bar": section.first_bar, "last_bar": section.last_bar}
    ends = tuple(
        replace(each, edit=bars, name=each.parameter.name) for each in fields_of(section, here, "first_bar", "last_bar")
    )
    remove = Action("Remove the section", {"op": "remove", "path": here}, danger=True)
    return (
        Section(
            "Section",
            (name, *ends),
            (Action("Without", without=here), remove),
            note=f"It takes {bars_in_words(section)}.",
        ),
        Section("Otherwise here", (), tuple(_given_back(stack, section)), note=_own_in_words(section)),
        Section("In and out", (), tuple(_in_and_out(stack, section))),
        Section("Build-up and fill", _build_ups(stack, section), tuple(_fills(stack, section))),
    )


def _own_in_words(section: PieceSection) -> str:
    if section.changes or section.notes is not None or section.hits:
        return "Press one to have it as in the whole piece again."
    return "Nothing yet: while the section is chosen, every change of a value, a note or a hit is made in it alone."


def _given_back(stack: Stack, section: PieceSection) -> Iterator[Action]:
    for change in section.changes:
        said = f"{place_name(stack, change.path)}: {value_text(parameter_at(stack, change.path), change.value)}"
        yield Action(f"{said} — as the whole", _back(section, change.path))
    if section.notes is not None:
        yield Action(f"{len(section.notes)} notes of its own — as the whole", _back(section, "notes"))
    for other in section.hits:
        drum = stack.drum_names().get(other.drum, "a drum")
        yield Action(f"{len(other.hits)} hits of {drum} — as the whole", _back(section, f"hits/{other.drum}"))
    if len(section.changes) + len(section.hits) + (section.notes is not None) > 1:
        yield Action("All as the whole", _back(section, ""), danger=True)


def _in_section(section: PieceSection, name: str, *edits: dict[str, Any]) -> dict[str, Any]:
    inner = edits[0] if len(edits) == 1 else {"op": "several", "name": name, "edits": list(edits)}
    return {"op": "in-section", "section": section.id, "edit": inner}


def _mute(owner: str, value: bool) -> dict[str, Any]:
    return {"op": "set", "path": f"{owner}/mute", "value": value}


def _muted_there(stack: Stack, section: PieceSection, owner: str) -> bool:
    path = f"{owner}/mute"
    own = next((change.value for change in section.changes if change.path == path), value_at(stack, path))
    return bool(own)


def _in_and_out(stack: Stack, section: PieceSection) -> Iterator[Action]:
    lowest = [layer for layer in stack.layers if layer.span.first == 0]
    upper = [layer for layer in stack.layers if layer.span.first > 0]
    if lowest and upper:
        edits = [_mute(f"layers/{x.id}", True) for x in upper] + [_mute(f"layers/{x.id}", False) for x in lowest]
        yield Action("Sub alone", _in_section(section, "Sub alone", *edits))
    if lowest:
        last = section.last_bar
        out = [{"path": f"layers/{layer.id}/mute", "value": True} for layer in lowest]
        if section.first_bar == last:
            edit = _in_section(section, "Sub out", *[_mute(f"layers/{layer.id}", True) for layer in lowest])
        else:
            edit = {"op": "part-section", "section": section.id, "bar": last, "changes": out}
        yield Action("Sub out for the last bar", edit)
    for layer in stack.layers:
        owner = f"layers/{layer.id}"
        muted = _muted_there(stack, section, owner)
        yield Action(f"{layer.name} {'in' if muted else 'out'}", _in_section(section, "", _mute(owner, not muted)))
    muted = _muted_there(stack, section, "kick")
    yield Action(f"kick {'in' if muted else 'out'}", _in_section(section, "", _mute("kick", not muted)))


def _build_ups(stack: Stack, section: PieceSection) -> tuple[Field, ...]:
    """What a movement can build up over the section: levels, and what drives or opens a layer."""
    options: list[tuple[dict[str, Any], str, bool]] = []
    for layer in stack.layers:
        paths = [(f"layers/{layer.id}/level_db", LEVEL_RISES_DB)]
        for step in [each for each in layer.path if isinstance(each, Treatment)]:
            leading = [name for name in leading_of(type(step)) if step.on]
            path = next((f"layers/{layer.id}/path/{step.id}/{name}" for name in leading), "")
            declared = parameter_at(stack, path) if path else None
            if declared is not None and not still_because(stack, path):
                paths.append((path, declared.low - float(value_at(stack, path)) if declared.scale != "log" else -2.0))
        for path, travel in paths:
            if travel:
                edit = {"op": "build-up", "section": section.id, "path": path, "travel": travel}
                options.append((edit, f"{place_name(stack, path)}", False))
    return (menu_field(f"sections/{section.id}/build-up", "Build up", options),) if options else ()


def _fills(stack: Stack, section: PieceSection) -> Iterator[Action]:
    if stack.played():
        for times, said in ((2.0, "twice as quick"), (4.0, "four times as quick")):
            yield Action(f"Fill: notes {said}", {"op": "quick-notes", "section": section.id, "times": times})
    for movement in stack.movements:
        if movement.shape.follows() is None and movement.length_in == "beats" and movement.begins != "section":
            path = f"movements/{movement.id}/length_beats"
            edit = {"op": "set", "path": path, "value": max(1 / 64, movement.length_beats / 2.0)}
            yield Action(f"Fill: {movement.name} twice as quick", _in_section(section, "", edit))
