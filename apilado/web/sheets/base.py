"""What a sheet is made of: sections of fields and actions, each field built from a parameter's declaration."""

from __future__ import annotations

from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

from pydantic import BaseModel

from apilado.core.document.addresses import find, joined
from apilado.core.document.carving import MOST_PAIRS
from apilado.core.document.equaliser import MOST_POINTS, POINTS, KeyedBell, Point, eq_sections, still_and_moving
from apilado.core.document.kick import Drum
from apilado.core.document.stack import Stack
from apilado.core.dsp.linear_phase import rings_ms
from apilado.core.parameters import Parameter, parameters_of
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.registry import TREATMENTS
from apilado.web.items import point_key

LONG_RINGING_MS = 50.0
AUDIO_ACCEPT = ".wav,.aif,.aiff,.flac,.ogg,.mp3"
HITS_ACCEPT = f".mid,.midi,{AUDIO_ACCEPT}"
STARTS = MappingProxyType(
    {
        "high-pass": 35.0,
        "low-shelf": 120.0,
        "bell": 300.0,
        "high-shelf": 4000.0,
        "low-pass": 12000.0,
        "keyed-bell": 110.0,
    }
)
"""Where a new EQ point begins, in Hz."""


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


def fields_of(model: BaseModel, path: str, *names: str, without: tuple[str, ...] = ()) -> tuple[Field, ...]:
    """The fields of a model at a path: those named, or all but some and those that do nothing at present."""
    unused: tuple[str, ...] = model.unused() if hasattr(model, "unused") else ()
    return tuple(
        Field(f"{path}/{p.name}" if path else p.name, p, getattr(model, p.name))
        for p in parameters_of(type(model))
        if (p.name in names if names else p.name not in (*without, *unused))
    )


def choice_field(path: str, name: str, value: Any, options: list[tuple[Any, str]]) -> Field:
    """A choice whose options depend on the document."""
    return Field(path, Parameter(name, "choice", name, value, choices=tuple(options)), value)


def menu_field(path: str, name: str, options: list[tuple[dict[str, Any], str, bool]]) -> Field:
    """A list of things to do, or of states to choose from, each with its edit."""
    return Field(path, Parameter(name, "choice", name, None), None, menu=tuple(options))


def treatments_section(title: str, owner: str, treatments: tuple[Treatment, ...]) -> Section:
    """A chain of treatments, and what can be added to it."""
    path = f"{owner}/treatments"
    children = tuple(
        Section(
            t.label,
            fields_of(t, joined(path, t.id)),
            _treatment_actions(joined(path, t.id), i, len(treatments), t),
            key=joined(path, t.id),
        )
        for i, t in enumerate(treatments)
    )
    adds = tuple(
        Action(
            f"Add {model.label.lower()}",
            {"op": "add", "path": path, "part": {"kind": model.model_fields["kind"].default}},
        )
        for model in TREATMENTS
    )
    return Section(title, (), adds, children=children)


def _treatment_actions(here: str, index: int, count: int, treatment: Treatment) -> tuple[Action, ...]:
    actions = []
    if treatment.overdone() is not None:
        actions.append(Action("Overdo", overdo=here))
    if index > 0:
        actions.append(Action("Earlier", {"op": "move", "path": here, "to": index - 1}))
    if index + 1 < count:
        actions.append(Action("Later", {"op": "move", "path": here, "to": index + 1}))
    return (*actions, Action("Remove", {"op": "remove", "path": here}, danger=True))


def eq_section(stack: Stack, owner: str, phase: tuple[Field, ...] = ()) -> Section:
    """The EQ of a part: its points, the carve pairs that reach it, and what can be added."""
    path = f"{owner}/eq"
    members = stack.equalisers()[owner]
    drum = isinstance(find(stack, owner), Drum)
    others = [(name, stack.owner_name(name)) for name in stack.equalisers() if name != owner]
    children = [
        Section(
            f"{point.label} {index + 1}",
            (
                *fields_of(point, joined(path, point.id)),
                *_trigger_field(stack, point, joined(path, point.id)),
                menu_field(joined(path, point.id, "copy"), "Copy to", _copies(joined(path, point.id), others)),
            ),
            (
                Action("Hear it alone", listen=joined(path, point.id)),
                Action("Remove", {"op": "remove", "path": joined(path, point.id)}, danger=True),
            ),
            key=point_key(joined(path, point.id)),
        )
        for index, point in enumerate(members)
    ]
    for pair in stack.pairs:
        if owner in (pair.dip, pair.lift):
            title = f"Pair: {stack.owner_name(pair.dip)} gives, {stack.owner_name(pair.lift)} takes"
            here = f"pairs/{pair.id}"
            drop = Action("Remove", {"op": "remove", "path": here}, danger=True)
            children.append(Section(title, fields_of(pair, here), (drop,), key=f"point:{here}"))
    adds: tuple[Action, ...] = ()
    if len(members) < MOST_POINTS:
        adds = tuple(
            Action(
                f"Add {model.label.lower()}",
                {"op": "add", "path": path, "part": {"kind": kind, "frequency_hz": STARTS.get(kind, 1000.0)}},
            )
            for model in POINTS
            for kind in [model.model_fields["kind"].default]
            if not (drum and model is KeyedBell)
        )
    note = "Or double-click in the Profile, and pull."
    if phase and phase[0].value == "linear-phase":
        note = f"{_ringing_said(stack, owner)} {note}"
    if owner != "shared" and len(stack.pairs) < MOST_PAIRS:
        pairs = [
            ({"op": "add", "path": "pairs", "part": {"dip": owner, "lift": name}}, shown, False)
            for name, shown in others
            if name != "shared"
        ]
        phase = (*phase, menu_field(joined(owner, "pair"), "Pair with", pairs))
    return Section("EQ", phase, adds, children=tuple(children), note=note)


def _copies(path: str, others: list[tuple[str, str]]) -> list[tuple[dict[str, Any], str, bool]]:
    return [({"op": "copy-point", "path": path, "to": name}, shown, False) for name, shown in others]


def _ringing_said(stack: Stack, owner: str) -> str:
    """What a linear phase costs: the points ring before a sound as long as after it."""
    still, _ = still_and_moving(stack.points_of(owner))
    rings = rings_ms(eq_sections(still, stack.sample_rate), stack.sample_rate)
    said = f"These points ring {rings:.0f} ms before every sound, as long as after it, until they are 60 dB down."
    if rings > LONG_RINGING_MS:
        said += " That is heard as a swell before each note; in one pass what rings before the first beat is cut off."
    return said


def _trigger_field(stack: Stack, point: Point, path: str) -> tuple[Field, ...]:
    followed = point.follows()
    if followed is None:
        return ()
    return (choice_field(f"{path}/trigger", "Trigger", followed, list(stack.drum_names().items())),)
