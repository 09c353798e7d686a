"""What may move in a stack, and movements drawn for it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel

from apilado.core.document.addresses import joined
from apilado.core.document.declarations import still_because
from apilado.core.document.movement import Movement, Target
from apilado.core.document.stack import Stack
from apilado.core.parameters import Parameter, parameters_of
from apilado.core.shapes.drawn_course import CoursePoint, DrawnCourse, starting_points
from apilado.core.shapes.follow_course import FollowCourse
from apilado.core.shapes.step_course import StepCourse

SHAPES = ("ramp up", "ramp down", "triangle", "sine", "fall", "square")


def values_that_move(stack: Stack) -> list[tuple[str, Parameter, float]]:
    """(address, parameter, value) of every value of a stack that may move."""
    layers = tuple(layer.id for layer in stack.layers)
    return [found for found in _inside(stack, "", layers) if not still_because(stack, found[0])]


def _inside(part: BaseModel, path: str, stack_ids: tuple[str, ...]) -> Iterator[tuple[str, Parameter, float]]:
    for parameter in parameters_of(type(part)):
        if parameter.kind == "map":
            for name in stack_ids:
                yield joined(path, parameter.name, name), parameter.each(), getattr(part, parameter.name).get(name, 1.0)
        elif parameter.moves:
            yield joined(path, parameter.name), parameter, getattr(part, parameter.name)
    for name in type(part).model_fields:
        value = getattr(part, name)
        if isinstance(value, BaseModel):
            yield from _inside(value, joined(path, name), stack_ids)
        elif isinstance(value, tuple):
            for each in value:
                if isinstance(each, BaseModel) and hasattr(each, "id"):
                    yield from _inside(each, joined(path, name, each.id), stack_ids)


def drawn_movements(dice: Any, stack: Stack) -> tuple[Movement, ...]:
    """One to three movements of what may move in a stack, each of one or two values."""
    values, found = values_that_move(stack), []
    for number in range(dice.whole(1, 3)):
        targets = []
        for index in range(dice.whole(1, 2)):
            path, parameter, _ = dice.of(values)
            widest = 2.0 if parameter.scale == "log" else min(2000.0, 0.2 * (parameter.high - parameter.low))
            travel = dice.between(-widest, widest)
            targets.append(Target(id=f"t{index}", path=path, travel=travel, both_ways=dice.one_in(2)))
        found.append(
            Movement(
                id=f"m{number}",
                shape=_shape(dice),
                length_in=dice.of(("beats", "beats", "ms", "Hz")),
                length_beats=dice.of((0.25, 0.5, 2 / 3, 1.0, 1.5, 3.0)),
                length_ms=dice.hz(40.0, 2000.0),
                rate_hz=dice.hz(0.5, 12.0),
                begins=dice.of(("note", "note", "hit", "bar", "once", "free")),
                then=dice.of(("holds", "repeats")),
                smooth_ms=dice.of((0.0, 0.0, 20.0)),
                scaled=dice.of(("nothing", "velocity", "pitch")),
                targets=tuple(targets),
            )
        )
    return tuple(found)


def _shape(dice: Any) -> Any:
    kind = dice.of(("start", "start", "drawn", "steps", "follows"))
    if kind == "start":
        return DrawnCourse(points=starting_points(dice.of(SHAPES)))
    if kind == "steps":
        return StepCourse(
            values=tuple(dice.between(0.0, 1.0) for _ in range(dice.whole(2, 8))), glide=dice.of((0.0, 0.4))
        )
    if kind == "follows":
        return FollowCourse(attack_ms=dice.between(0.5, 30.0), release_ms=dice.hz(20.0, 400.0))
    places = sorted(dice.between(0.0, 1.0) for _ in range(dice.whole(1, 4)))
    points = [
        CoursePoint(at=at, value=dice.between(0.0, 1.0), bend=dice.between(-1.0, 1.0)) for at in (0.0, *places, 1.0)
    ]
    return DrawnCourse(points=tuple(points))
