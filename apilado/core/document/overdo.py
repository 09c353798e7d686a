"""Overdoing: a stack with one of its moving parts exaggerated, to be heard for a moment and never kept."""

from __future__ import annotations

from apilado.core.document.editing import PLACE
from apilado.core.document.stack import Stack
from apilado.core.treatments.base import Treatment
from apilado.errors import NotFound


def overdone(stack: Stack, path: str) -> Stack:
    """The stack with one part overdone: `duckers/ID`, `layers/ID/treatments/0`, `bus/treatments/0` or `shared/…`.

    Raises:
        NotFound: there is no such part, or it has nothing that could be overdone.
    """
    parts = path.split("/")
    if parts[0] == "duckers" and len(parts) == 2 and stack.ducker(parts[1]) is not None:
        duckers = tuple(
            d.model_copy(update={"shape": d.shape.overdone(), "on": True}) if d.id == parts[1] else d
            for d in stack.duckers
        )
        return stack.model_copy(update={"duckers": duckers})
    if parts[-2:-1] == ["treatments"] and PLACE.fullmatch(parts[-1]):
        owner, index = parts[:-2], int(parts[-1])
        if owner in (["bus"], ["shared"]):
            bus = stack.bus if owner == ["bus"] else stack.shared
            return stack.model_copy(
                update={owner[0]: bus.model_copy(update={"treatments": _with_overdone(bus.treatments, index, path)})}
            )
        if owner[:1] == ["layers"] and len(owner) == 2 and stack.layer(owner[1]) is not None:
            layers = tuple(
                layer.model_copy(update={"treatments": _with_overdone(layer.treatments, index, path)})
                if layer.id == owner[1]
                else layer
                for layer in stack.layers
            )
            return stack.model_copy(update={"layers": layers})
    raise NotFound(f"there is nothing at '{path}' that could be overdone")


def _with_overdone(treatments: tuple[Treatment, ...], index: int, path: str) -> tuple[Treatment, ...]:
    more = treatments[index].overdone() if index < len(treatments) else None
    if more is None:
        raise NotFound(f"there is nothing at '{path}' that could be overdone")
    return (*treatments[:index], more.model_copy(update={"on": True}), *treatments[index + 1 :])
