"""What a sheet is made of: sections of fields and actions, each field built from a parameter's declaration."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from pydantic import BaseModel

from apilado.core.document.addresses import find, joined, outwards, owner_of, parted
from apilado.core.document.stack import Stack
from apilado.core.parameters import Model, Parameter, leading_of, parameters_of
from apilado.core.sketch import Sketch

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
    slides: Parameter | None = None
    """The parameter as its slider has it, where that goes less far."""

    @property
    def slid(self) -> Parameter:
        """The parameter as its slider has it."""
        return self.slides or self.parameter

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
    adds: str = ""
    """The path of a step of which only what it adds is heard while it is held."""
    without: str = ""
    """The path of a part without which all is heard while it is held."""
    piece: bool = False
    """Whether the finished piece is heard in the loop's place while it is pressed in."""
    listen: str = ""
    """The path of an EQ point: only what it touches is heard while it is pressed in."""
    pull: str = ""
    """The path of an EQ that the Profile is to show."""
    asks: str = ""
    """What is asked before it is done."""
    find: str = ""
    """What is looked for in the sound of the layer at `within`."""
    within: str = ""
    bounce: str = ""
    """The id of the layer that is bounced."""
    job: str = ""
    """The kind of the job that it begins, and what that is asked for."""
    wanted: dict[str, Any] = field(default_factory=dict)
    keeps: str = ""
    """The kind of part that is kept in the Quarry, of what is at `within`."""


@dataclass(frozen=True)
class Line:
    """What is seen of a part while it is shut; it is opened there."""

    address: str
    words: str = ""
    sketch: Sketch | None = None
    switch: Field | None = None
    """Whether it is on, where it can be off."""
    measured: bool = False
    """Whether the level behind it is measured."""
    curve: bool = False
    """Whether its transfer curve is drawn in the Profile."""
    earlier: dict[str, Any] | None = None
    later: dict[str, Any] | None = None
    list_path: str = ""
    """The list in which it can be moved to another place; '' where its order is not heard."""
    place: int = 0


@dataclass(frozen=True)
class Add:
    """Something that can be added, in a menu."""

    label: str
    family: str
    explains: str
    edit: dict[str, Any]


@dataclass(frozen=True)
class Section:
    """A titled group of fields and actions; with a line, one that is opened and shut."""

    title: str
    fields: tuple[Field, ...] = ()
    actions: tuple[Action, ...] = ()
    rest: tuple[Field, ...] = ()
    """Fields that are unfolded by a word."""
    line: Line | None = None
    chooser: bool = False
    """Whether it is a choice among things of one kind, which stands before what was measured of the chosen one."""
    adds: tuple[Add, ...] = ()
    adds_title: str = ""
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
    unused: tuple[str, ...] = model.unused() if isinstance(model, Model) else ()
    return tuple(
        Field(joined(path, p.name), p if stack is None else among(stack, p, path), getattr(model, p.name))
        for p in parameters_of(type(model))
        if (p.name in names if names else p.name not in (*without, *unused))
        and p.kind != "map"  # what each of it belongs to has a field of its own
        and (p.kind != "reference" or stack is not None)
    )


MOST_AT_ONCE = 6
"""So many fields are shown without unfolding."""


def first_and_rest(model: BaseModel, fields: tuple[Field, ...]) -> tuple[tuple[Field, ...], tuple[Field, ...]]:
    """(the fields that matter first, those that are unfolded by a word)."""
    if len(fields) <= MOST_AT_ONCE or not isinstance(model, Model):
        return fields, ()
    leading = leading_of(type(model))
    first = tuple(each for each in fields if each.parameter.name in leading)
    return first, tuple(each for each in fields if each not in first)


def switch_of(fields: tuple[Field, ...]) -> tuple[Field | None, tuple[Field, ...]]:
    """(the field of whether a part is on, the others)."""
    switch = next((each for each in fields if each.parameter.name == "on"), None)
    return switch, tuple(each for each in fields if each is not switch)


def among(stack: Stack, parameter: Parameter, path: str) -> Parameter:
    """A parameter of a part at a path; a reference as a choice of what is there."""
    if parameter.kind != "reference":
        return parameter
    others = [(each.id, each.name) for each in stack.layers if f"layers/{each.id}" != owner_of(path)]
    drums = list(stack.drum_names().items())
    sounds = [*drums, *((f"layers/{each.id}", each.name) for each in stack.layers)]
    sections = [(each.id, each.name) for each in stack.sections]
    lists = {"layers": others, "drums": drums, "sounds": sounds, "sections": sections, "waves": _waves(stack, path)}
    found = lists[parameter.among or "drums"]
    if parameter.among == "sounds" and parameter.default == "":
        found = [("", "its own sound"), *found]
    return replace(parameter, kind="choice", choices=tuple(found))


def _waves(stack: Stack, path: str) -> list[tuple[str, str]]:
    """(id, name) of the waves behind the one in which an address lies, and of none."""
    own = next((each for each in outwards(path) if parted(parted(each)[0])[1] == "tones"), "")
    beside = find(stack, parted(own)[0]) or () if own else ()
    ids = [wave.id for wave in beside]
    later = [(wave.id, f"tone {n}") for n, wave in enumerate(beside, 1) if n > ids.index(parted(own)[1]) + 1]
    return [("", "nothing yet"), *later]


def choice_field(path: str, name: str, value: Any, options: list[tuple[Any, str]]) -> Field:
    """A choice whose options depend on the document."""
    return Field(path, Parameter(name, "choice", name, value, choices=tuple(options)), value)


def menu_field(path: str, name: str, options: list[tuple[dict[str, Any], str, bool]]) -> Field:
    """A list of things to do, or of states to choose from, each with its edit."""
    return Field(path, Parameter(name, "choice", name, None), None, menu=tuple(options))
