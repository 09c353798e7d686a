"""What a sheet is made of: sections of fields and actions, each field built from a parameter's declaration."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from pydantic import BaseModel

from apilado.core.document.addresses import joined, owner_of
from apilado.core.document.stack import Stack
from apilado.core.parameters import Parameter, parameters_of

AUDIO_ACCEPT = ".wav,.aif,.aiff,.flac,.ogg,.mp3"
HITS_ACCEPT = f".mid,.midi,{AUDIO_ACCEPT}"


@dataclass(frozen=True)
class Field:
    """One control: where its value lies, how it is declared, what it is now."""

    path: str
    parameter: Parameter
    value: Any
    edit: dict[str, Any] | None = None
    """The edit that it makes, but for its value; None: it sets the value at its path."""
    name: str = "value"
    """What the value is called in that edit."""
    menu: tuple[tuple[dict[str, Any], str, bool], ...] = ()
    """(edit, what it is called, whether it is so now) to choose from, where it is no single value that is set."""
    asks: str = ""
    """What is asked before it is set."""

    @property
    def makes(self) -> dict[str, Any]:
        """The edit that it makes, but for its value."""
        return self.edit or {"op": "set", "path": self.path}


@dataclass(frozen=True)
class Action:
    """A button: it does an edit, opens a file for one, chooses something, or changes what is heard."""

    label: str
    edit: dict[str, Any] | None = None
    upload: str | None = None
    accept: str = ""
    danger: bool = False
    select: str = ""
    chosen: bool = False
    overdo: str = ""
    """The path of a part that is exaggerated while it is held."""
    listen: str = ""
    """The path of an EQ point: only what it touches is heard while it is pressed in."""
    pull: str = ""
    """The path of an EQ that the Profile is to show."""
    asks: str = ""
    """What is asked before it is done."""


@dataclass(frozen=True)
class Section:
    """A titled group of fields and actions."""

    title: str
    fields: tuple[Field, ...] = ()
    actions: tuple[Action, ...] = ()
    folded: bool = False
    note: str = ""
    key: str = ""
    children: tuple[Section, ...] = field(default=())


def fields_of(
    model: BaseModel, path: str, *names: str, without: tuple[str, ...] = (), stack: Stack | None = None
) -> tuple[Field, ...]:
    """The fields of a model at a path: those named, or all but some and those that do nothing at present.

    Args:
        stack: where references are chosen from; without it they are left out.
    """
    unused: tuple[str, ...] = model.unused() if hasattr(model, "unused") else ()
    return tuple(
        Field(joined(path, p.name), p if stack is None else among(stack, p, path), getattr(model, p.name))
        for p in parameters_of(type(model))
        if (p.name in names if names else p.name not in (*without, *unused))
        and p.kind != "map"  # what each of it belongs to has a field of its own
        and (p.kind != "reference" or stack is not None)
    )


def among(stack: Stack, parameter: Parameter, path: str) -> Parameter:
    """A parameter of a part at a path; a reference as a choice of what is there."""
    if parameter.kind != "reference":
        return parameter
    others = [(each.id, each.name) for each in stack.layers if f"layers/{each.id}" != owner_of(path)]
    found = others if parameter.among == "layers" else list(stack.drum_names().items())
    return replace(parameter, kind="choice", choices=tuple(found))


def choice_field(path: str, name: str, value: Any, options: list[tuple[Any, str]]) -> Field:
    """A choice whose options depend on the document."""
    return Field(path, Parameter(name, "choice", name, value, choices=tuple(options)), value)


def menu_field(path: str, name: str, options: list[tuple[dict[str, Any], str, bool]]) -> Field:
    """A list of things to do, or of states to choose from, each with its edit."""
    return Field(path, Parameter(name, "choice", name, None), None, menu=tuple(options))
