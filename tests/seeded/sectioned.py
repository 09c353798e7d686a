"""Sections drawn for seeded stacks: any value that a section may have otherwise, notes and hits."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel

from apilado.core.document.addresses import joined
from apilado.core.document.declarations import refused_in_section
from apilado.core.document.section import Change, OtherHits, PieceSection
from apilado.core.document.stack import Stack
from apilado.core.notes import Note
from apilado.core.parameters import Parameter, parameters_of


def values_to_change(stack: Stack) -> list[tuple[str, Parameter, Any]]:
    """(address, parameter, value) of everything in a stack that a section may have otherwise."""
    names = [name for name in type(stack).model_fields if name not in ("sections", "limits")]
    found = [each for name in names for each in _inside(getattr(stack, name), name)]
    return [each for each in found if not refused_in_section(stack, each[0], each[2])]


def _inside(place: Any, path: str) -> Iterator[tuple[str, Parameter, Any]]:
    if isinstance(place, BaseModel):
        for parameter in parameters_of(type(place)):
            if parameter.kind != "map":
                yield joined(path, parameter.name), parameter, getattr(place, parameter.name)
        for name in type(place).model_fields:
            yield from _inside(getattr(place, name), joined(path, name))
    elif isinstance(place, tuple):
        for each in place:
            if isinstance(each, BaseModel) and hasattr(each, "id"):
                yield from _inside(each, joined(path, each.id))


def another(dice: Any, parameter: Parameter, value: Any) -> Any:
    """A value that a parameter could have in place of the one that it has; that one where there is no other."""
    if parameter.kind == "switch":
        return not value
    if parameter.kind == "choice":
        return dice.of([each for each, _ in parameter.choices])
    if parameter.kind == "integer":
        return min(max(value + dice.of((-2, -1, 1, 2)), int(parameter.low)), int(parameter.high))
    if parameter.kind != "number":
        return value
    if parameter.scale == "log":
        return min(max(round(value * 2.0 ** dice.between(-1.0, 1.0), 3), parameter.low), parameter.high)
    reach = 0.2 * (parameter.high - parameter.low)
    return min(max(round(value + dice.between(-reach, reach), 3), parameter.low), parameter.high)


def drawn_sections(dice: Any, stack: Stack, *, values: list[tuple[str, Parameter, Any]] | None = None) -> Stack:
    """The stack, or a longer one, with one to three sections in it.

    Args:
        values: those that they may have otherwise; all unless told. Then they have notes and hits of their own too.
    """
    bars = max(stack.bars, dice.whole(2, 4))
    stack = Stack.model_validate({**stack.model_dump(), "bars": bars})
    choose, sections, bar = values_to_change(stack) if values is None else values, [], 1 + dice.whole(0, 1)
    while bar <= bars and len(sections) < 3:
        last = min(bars, bar + dice.of((0, 0, 1)))
        picked = {each[0]: each for each in [dice.of(choose) for _ in range(dice.whole(1, 4))]}
        changes = [Change(path=path, value=another(dice, p, value)) for path, p, value in picked.values()]
        beats = (last - bar + 1) * stack.beats_per_bar
        own: dict[str, Any] = {}
        if values is None and dice.one_in(3):
            own["notes"] = tuple(
                Note(start_beats=float(beat), length_beats=0.9, pitch=dice.whole(26, 43)) for beat in range(beats)
            )
        if values is None and dice.one_in(3):
            own["hits"] = (OtherHits(drum="kick", hits=tuple(beat / 2 for beat in range(beats * 2))),)
        given = {"id": f"s{len(sections)}", "name": f"part {len(sections)}", "first_bar": bar, "last_bar": last}
        sections.append(PieceSection(changes=tuple(changes), **given, **own))
        bar = last + 1 + dice.whole(0, 1)
    return _valid(stack, sections)


def _valid(stack: Stack, sections: list[PieceSection]) -> Stack:
    """The stack with those sections whose values go together."""
    taken: list[PieceSection] = []
    for section in sections:
        kept = []
        for change in section.changes:
            tried = section.model_copy(update={"changes": (*kept, change)})
            try:
                Stack.model_validate({**stack.model_dump(), "sections": [*taken, tried]})
            except ValueError:
                continue
            kept.append(change)
        taken.append(section.model_copy(update={"changes": tuple(kept)}))
    return Stack.model_validate({**stack.model_dump(), "sections": taken})
