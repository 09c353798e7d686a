"""How the parts and values of a stack are called in a sentence: 'level of mid', 'frequency of bell 1 of kick'."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel

from apilado.core.document.addresses import BY_CONTENT, parts_of, walked
from apilado.core.document.declarations import parameter_at
from apilado.core.document.path import Equaliser, eqs_in
from apilado.core.document.stack import BUSES, Stack
from apilado.core.notes import Note
from apilado.core.parameters import Parameter, parameters_of
from apilado.core.units import midi_to_name


def layer_name(layer_id: str, *stacks: Stack) -> str:
    """The name of a layer in the first of the stacks that has it; its id where none has."""
    found = (layer.name for stack in stacks for layer in stack.layers if layer.id == layer_id)
    return next(found, layer_id)


def place_name(stack: Stack, path: str) -> str:
    """A part, or a value, and what it belongs to, from the inside out; the path as words where nothing is known."""
    parts, steps = parts_of(path), walked(stack, path)
    names: list[str] = []
    for place, (part, holder, reached) in enumerate(zip(parts, steps, steps[1:], strict=False)):
        # The only EQ of a path is not named where one of its points is.
        only = place + 1 < len(parts) and isinstance(reached, Equaliser) and len(eqs_in(holder)) == 1
        name = "" if only else _name(part, holder, reached)
        if isinstance(holder, dict) and parts[place - 1] == "amounts":
            return f"{' of '.join(names)} for {layer_name(part, stack)}"
        if name:
            names.insert(0, name)
    if isinstance(steps[-2], BaseModel) and not _name(
        parts[-1], *steps[-2:]
    ):  # what holds more goes unnamed on the way
        names.insert(0, {"span": "band"}.get(parts[-1], parts[-1].replace("_", " ")))
    declared = parameter_at(stack, path) if parts[-1].startswith(BY_CONTENT) else None
    if declared is not None:  # one of several numbers
        names[0] = declared.shown(steps[-1])
    return " of ".join(names) or path.replace("/", " ")


def with_article(what: str) -> str:
    """'a bell', 'an EQ point'."""
    return f"{'an' if what[:1] in 'aeiouAEIOU' else 'a'} {what}"


def value_text(parameter: Parameter | None, value: Any) -> str:
    """A value as its field shows it, with its unit; nothing where it is no single value."""
    return "" if parameter is None or isinstance(value, dict | list | tuple) else parameter.told(value)


def numbered(members: tuple[Any, ...], part: Any) -> str:
    """A member of a list by its kind and its number among those of that kind: 'bell 2', 'EQ 1'."""
    label = str(type(part).label)
    alike = [each for each in members if type(each) is type(part)]
    return f"{label if label.isupper() else label.lower()} {alike.index(part) + 1}"


def _name(part: str, holder: Any, reached: Any) -> str:
    """What one step of a path adds to the name."""
    if isinstance(holder, tuple):
        if isinstance(reached, Note):
            return f"note {midi_to_name(reached.pitch)}"
        own = str(getattr(reached, "name", "") or part)
        return numbered(holder, reached) if getattr(type(reached), "label", "") else own
    if isinstance(holder, Stack) and part in (*BUSES, "kick"):
        return part
    if isinstance(holder, BaseModel):
        declared = {parameter.name: parameter.label for parameter in parameters_of(type(holder))}
        if part in declared:
            return declared[part].lower()
        if isinstance(reached, tuple | dict | BaseModel):
            return ""
    return part.replace("_", " ")
