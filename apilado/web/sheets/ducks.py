"""The sheet of a ducker."""

from __future__ import annotations

from dataclasses import replace

from apilado.core.document.ducker import MOST_DUCKERS, Ducker
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.parameters import parameters_of
from apilado.core.shapes.registry import DUCK_SHAPES
from apilado.web.sheets.base import Action, Field, Section, choice_field, fields_of

SHARE_HELP = "Share of the duck's depth"


def chosen_ducker(stack: Stack, selected: str) -> Ducker | None:
    """The ducker that a selection means: `duck` is the first, `duck:ID` that one."""
    kind, _, name = selected.partition(":")
    return (stack.ducker(name) if kind == "duck" else None) or (stack.duckers[0] if stack.duckers else None)


def share_fields(stack: Stack, layer: Layer) -> tuple[Field, ...]:
    """How much of each ducker's depth a layer takes."""
    return tuple(_share_field(ducker, layer, ducker.name) for ducker in stack.duckers)


def _share_field(ducker: Ducker, layer: Layer, name: str) -> Field:
    declared = next(p for p in parameters_of(Ducker) if p.name == "amounts").each()
    share = replace(declared, name=name, label=name, help=SHARE_HELP)
    edit = {"op": "share", "ducker": ducker.id, "layer": layer.id}
    return Field(f"duckers/{ducker.id}/amounts/{layer.id}", share, ducker.amount(layer.id), edit, "amount")


def duck_sections(stack: Stack, selected: str) -> tuple[Section, ...]:
    """The duckers, and everything of the chosen one."""
    ducker = chosen_ducker(stack, selected)
    chooser = tuple(
        Action(d.name, select=f"duck:{d.id}", chosen=ducker is not None and d.id == ducker.id) for d in stack.duckers
    )
    if len(stack.duckers) < MOST_DUCKERS:
        part = {"name": f"Duck {len(stack.duckers) + 1}" if stack.duckers else "Duck"}
        chooser = (*chooser, Action("Add a duck", {"op": "add", "path": "duckers", "part": part}))
    if ducker is None:
        return (Section("Ducks", (), chooser, chooser=True, note="Nothing makes room for the kick yet."),)
    path = f"duckers/{ducker.id}"
    kinds = [(model.model_fields["kind"].default, model.label) for model in DUCK_SHAPES]
    amounts = tuple(_share_field(ducker, layer, layer.name) for layer in stack.layers)
    own = fields_of(ducker, path, stack=stack)
    remove = Action("Remove this duck", {"op": "remove", "path": path}, danger=True)
    return (
        Section("Ducks", (), chooser, chooser=True),
        Section(
            ducker.name,
            own,
            (
                Action("Overdo", overdo=path),
                Action("Without", without=path),
                Action("Keep", keeps="duck", within=path),
                remove,
            ),
        ),
        Section(
            "Shape",
            (
                choice_field(f"{path}/shape/kind", "Kind", ducker.shape.kind, kinds),
                *fields_of(ducker.shape, f"{path}/shape"),
            ),
        ),
        Section("Share of each layer", amounts),
    )
