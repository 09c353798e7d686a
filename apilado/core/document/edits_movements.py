"""Edits of movements: what one begins as, how its course is pulled, how far it travels, and copies of it."""

from __future__ import annotations

import math
from types import MappingProxyType
from typing import Annotated, Any, Literal

from pydantic import Field

from apilado.core.document.addresses import find, get, joined, member, owner_of, parts_of, within
from apilado.core.document.declarations import parameter_at, still_because, value_at
from apilado.core.document.editing import Data, Edit
from apilado.core.document.movement import MOST_MOVEMENTS, Movement, Start, starting_course
from apilado.core.document.naming import place_name
from apilado.core.document.stack import Stack
from apilado.core.parameters import Parameter
from apilado.core.parts import Part, new_id
from apilado.core.shapes.drawn_course import MOST_COURSE_POINTS, CoursePoint, DrawnCourse
from apilado.core.shapes.step_course import StepCourse
from apilado.errors import InvalidEdit

MovementId = Annotated[str, Field(min_length=1, max_length=40)]
OCTAVES_AT_FIRST = 2.0
AT_FIRST = MappingProxyType({"dB": 12.0, "st": 12.0, "ms": 200.0})
"""By the unit of a value: a new movement takes it no further."""
MOST_BENT = 1e-3
RAMPS = ("ramp up", "ramp down", "fall")


def first_travel(parameter: Parameter, value: float) -> float:
    """How far a new movement takes a value: to the side on which there is more room, and no further than there is."""
    if parameter.scale == "log":
        return OCTAVES_AT_FIRST if value * 2.0**OCTAVES_AT_FIRST <= parameter.high else -OCTAVES_AT_FIRST
    up, down = parameter.high - value, value - parameter.low
    half = (parameter.high - parameter.low) / 2
    widest = min(half, AT_FIRST.get(parameter.unit, half))
    # A level goes down from where it stands: up would be louder than it was set.
    rises = up >= down and parameter.unit != "dB"
    return round(min(widest, up) if rises else -min(widest, down), 4)


def movement_of(stack: Stack, movement_id: str) -> Movement:
    """The movement of an id.

    Raises:
        InvalidEdit: it is not there any more.
    """
    found: Movement = get(stack, f"movements/{movement_id}")
    return found


class AddMovement(Edit):
    """Adds a movement of the value at `path`, with one of the starting shapes."""

    op: Literal["add-movement"] = "add-movement"
    path: str = Field(min_length=1, max_length=200)
    start: Start = "ramp down"
    follows: str = Field(default="kick", max_length=60)
    """For `follow`: the drum, or the layer as `layers/ID`."""
    id: str = Field(default_factory=new_id, min_length=1, max_length=40, pattern=r"^[a-z0-9-]+$")

    def meant(self, stack: Stack) -> AddMovement:
        refused = still_because(stack, self.path)
        if refused:
            raise InvalidEdit(f"{place_name(stack, self.path)} does not move: {refused}")
        if len(stack.movements) >= MOST_MOVEMENTS:
            raise InvalidEdit(f"there are {MOST_MOVEMENTS} movements already, the most there can be")
        return self

    def alter(self, data: Data) -> None:
        stack = Stack.model_validate(data)
        parameter = parameter_at(stack, self.path)
        if parameter is None:
            raise InvalidEdit(f"there is no value at '{self.path}'")
        taken = {movement.name for movement in stack.movements}
        named = self.start[:1].upper() + self.start[1:]
        name = next(n for n in (named, *(f"{named} {count}" for count in range(2, 99))) if n not in taken)
        repeats = self.start not in RAMPS
        made: Data = {
            "id": self.id,
            "name": name,
            "shape": starting_course(self.start, seed=stack.seed + len(stack.movements), follows=self.follows),
            "length_beats": 1.0 if self.start in RAMPS else 0.5,
            "then": "repeats" if repeats else "holds",
            "targets": [
                {
                    "id": new_id(),
                    "path": self.path,
                    "travel": first_travel(parameter, float(value_at(stack, self.path))),
                }
            ],
        }
        if "steps" in self.start:
            made.update(begins="bar", length_beats=float(stack.beats_per_bar))
        data["movements"].append(made)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Move {place_name(after, self.path)}: {self.start}"


class ShapeMovement(Edit):
    """Gives a movement one of the starting shapes; how long it is, when it begins and what it moves stay."""

    op: Literal["shape-movement"] = "shape-movement"
    movement: MovementId
    start: Start
    seed: int = Field(default=1, ge=0, le=2**31 - 1)
    follows: str = Field(default="kick", max_length=60)

    def alter(self, data: Data) -> None:
        moved = get(data, f"movements/{self.movement}")
        moved["shape"] = starting_course(self.start, seed=self.seed, follows=self.follows)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Shape of {movement_of(after, self.movement).name}: {self.start}"


class PullCourse(Edit):
    """Adds a point to a drawn course (`place` is null), pulls or bends the one at a place, or removes it.

    A point that is pulled is held between its neighbours, and between 0 and 1.
    """

    op: Literal["course-point"] = "course-point"
    movement: MovementId
    place: int | None = Field(default=None, ge=0, le=MOST_COURSE_POINTS)
    at: float | None = None
    value: float | None = None
    bend: float | None = None
    through: float | None = None
    """The value that the line from this point to the next is bent to go through, halfway."""
    gone: bool = False

    def meant(self, stack: Stack) -> PullCourse:
        shape = movement_of(stack, self.movement).shape
        if not isinstance(shape, DrawnCourse):
            raise InvalidEdit(f"{movement_of(stack, self.movement).name} has no points to pull: it is not drawn")
        if self.place is not None and self.place >= len(shape.points):
            raise InvalidEdit("this point of the course is not there any more")
        if self.place is None and len(shape.points) >= MOST_COURSE_POINTS:
            raise InvalidEdit(f"this course has {MOST_COURSE_POINTS} points already, the most there can be")
        if self.gone and len(shape.points) == 1:
            raise InvalidEdit("a course has at least one point")
        return self

    def alter(self, data: Data) -> None:
        points = get(data, f"movements/{self.movement}/shape/points")
        if self.gone:
            del points[self.place or 0]
        elif self.place is None:
            points.append(CoursePoint(at=_share(self.at), value=_share(self.value)).model_dump())
            points.sort(key=lambda point: point["at"])
        else:
            point = points[self.place]
            if self.at is not None:
                low = points[self.place - 1]["at"] if self.place else 0.0
                high = points[self.place + 1]["at"] if self.place + 1 < len(points) else 1.0
                point["at"] = min(max(_share(self.at), low), high)
            if self.value is not None:
                point["value"] = _share(self.value)
            bend = self.bend
            if self.through is not None and self.place + 1 < len(points):
                bend = bent_through(point["value"], points[self.place + 1]["value"], self.through)
            if bend is not None:
                point["bend"] = round(min(max(bend, -1.0), 1.0), 3)

    def title(self, before: Stack, after: Stack) -> str:
        did = "Remove a point of" if self.gone else "Add a point to" if self.place is None else "Pull"
        return f"{did} {movement_of(after, self.movement).name}"


def _share(value: float | None) -> float:
    """A number that a hand was let go at, as a share."""
    return round(min(max(value or 0.0, 0.0), 1.0), 4)


def bent_through(begin: float, end: float, halfway: float) -> float | None:
    """The bend of a line that is so high halfway, from the course a + (b - a)·u^(4^bend) at u = 1/2."""
    share = (halfway - begin) / (end - begin) if end != begin else 0.0
    if end == begin:
        return None
    share = min(max(share, MOST_BENT), 1.0 - MOST_BENT)
    return math.log(math.log(share) / math.log(0.5)) / math.log(4.0)


class DrawSteps(Edit):
    """Sets some of the steps of a movement, each held between 0 and 1: what one sweep has drawn."""

    op: Literal["draw-steps"] = "draw-steps"
    movement: MovementId
    values: dict[int, float] = Field(min_length=1, max_length=64)

    def meant(self, stack: Stack) -> DrawSteps:
        moved = movement_of(stack, self.movement)
        count = len(moved.shape.values) if isinstance(moved.shape, StepCourse) else 0
        if not all(0 <= place < count for place in self.values):
            raise InvalidEdit(f"{moved.name} has {count} steps; there is none at place {max(self.values) + 1}")
        return self

    def alter(self, data: Data) -> None:
        steps = get(data, f"movements/{self.movement}/shape/values")
        for place, value in self.values.items():
            steps[place] = _share(value)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Draw steps of {movement_of(after, self.movement).name}"


class PullTravel(Edit):
    """Sets how far a target is moved by where its value is to end, held within the range of the value."""

    op: Literal["travel-to"] = "travel-to"
    movement: MovementId
    target: str = Field(min_length=1, max_length=40)
    end: float

    def alter(self, data: Data) -> None:
        target = get(data, f"movements/{self.movement}/targets/{self.target}")
        stack = Stack.model_validate(data)
        parameter, value = parameter_at(stack, target["path"]), float(value_at(stack, target["path"]))
        if parameter is None:
            raise InvalidEdit("what this movement moved is not there any more")
        target["travel"] = travel_to(parameter, value, self.end)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Travel of {movement_of(after, self.movement).name}"


def travel_to(parameter: Parameter, value: float, end: float) -> float:
    """The travel that takes a value to another one: in octaves where it is logarithmic, else in its unit."""
    end = min(max(end, parameter.low), parameter.high)
    return round(math.log2(end / value) if parameter.scale == "log" else end - value, 4)


def counterpart(stack: Stack, path: str, owner: str, to: str) -> str | None:
    """The value of another part that is what the value at an address is of its own; None where there is none.

    Of several of one kind it is the one with the same number.
    """
    here, there, names = find(stack, owner), find(stack, to), []
    for name in parts_of(path)[len(parts_of(owner)) :]:
        step = member(here, name)
        if isinstance(here, tuple) and isinstance(step, Part):
            alike, others = ([each for each in listed if type(each) is type(step)] for listed in (here, there))
            if alike.index(step) >= len(others):
                return None
            there = others[alike.index(step)]
            names.append(there.id)
        else:
            there = member(there, name)
            names.append(name)
        if there is None:
            return None
        here = step
    found = joined(to, *names)
    return None if still_because(stack, found) else found


class CopyMovement(Edit):
    """Copies a movement to another layer: the same course of what there is the same value."""

    op: Literal["copy-movement"] = "copy-movement"
    movement: MovementId
    to: str = Field(min_length=1, max_length=60, description="Address of the layer, as layers/mid")
    id: str = Field(default_factory=new_id, min_length=1, max_length=40, pattern=r"^[a-z0-9-]+$")

    def targets(self, stack: Stack) -> list[Data]:
        """Those of the copy."""
        moved, found = movement_of(stack, self.movement), []
        for target in moved.targets:
            owner = owner_of(target.path)
            path = counterpart(stack, target.path, owner, self.to) if within(owner, "layers") else None
            if path is not None and owner != self.to:
                found.append({**target.model_dump(mode="json"), "id": new_id(), "path": path})
        return found

    def meant(self, stack: Stack) -> CopyMovement:
        get(stack, self.to)
        if not self.targets(stack):
            moved, name = movement_of(stack, self.movement).name, stack.owner_name(self.to)
            raise InvalidEdit(f"{moved} was not copied: {name} has nothing like what it moves")
        return self

    def alter(self, data: Data) -> None:
        stack = Stack.model_validate(data)
        copied: dict[str, Any] = movement_of(stack, self.movement).model_dump(mode="json")
        data["movements"].append({**copied, "id": self.id, "targets": self.targets(stack)})

    def title(self, before: Stack, after: Stack) -> str:
        return f"Copy {movement_of(before, self.movement).name} to {after.owner_name(self.to)}"

    def remark(self, before: Stack, after: Stack) -> str | None:
        lost = len(movement_of(before, self.movement).targets) - len(self.targets(before))
        if not lost:
            return None
        return f"{lost} of what it moves {'is' if lost == 1 else 'are'} not there in {after.owner_name(self.to)}."
