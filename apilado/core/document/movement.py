"""Movements: how values come to change over time.

One notion for what the trade calls an envelope (it begins on notes and stops), an LFO (it repeats), a step pattern, an
envelope follower and automation (it begins once and is as long as the piece).
"""

from __future__ import annotations

import math
import typing
from types import MappingProxyType
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator

from apilado.core.clock import Clock
from apilado.core.dsp.courses import Breakpoints, along
from apilado.core.parameters import Model, choice, number, numbers, parts, reference, switch, tagged_union, text
from apilado.core.parts import Part
from apilado.core.sketch import SKETCH_POINTS, Sketch

MOST_MOVEMENTS, MOST_TARGETS, MOST_COURSE_POINTS, MOST_STEPS = 32, 16, 128, 64
SINE_POINTS = 64
FIRST_STEPS = 8
Start = Literal["ramp up", "ramp down", "triangle", "sine", "fall", "square", "steps", "random steps", "follow"]
"""What a movement can begin as."""
STARTS: tuple[Start, ...] = typing.get_args(Start)
SIMPLE_POINTS = MappingProxyType(
    {
        "ramp up": ((0.0, 0.0, 0.0), (1.0, 1.0, 0.0)),
        "ramp down": ((0.0, 1.0, 0.0), (1.0, 0.0, 0.0)),
        "triangle": ((0.0, 0.0, 0.0), (0.5, 1.0, 0.0), (1.0, 0.0, 0.0)),
        "fall": ((0.0, 1.0, -0.8), (1.0, 0.0, 0.0)),
        "square": ((0.0, 1.0, 0.0), (0.5, 1.0, 0.0), (0.5, 0.0, 0.0), (1.0, 0.0, 0.0)),
    }
)
"""Place, value and bend of the points of the starting shapes that are not computed."""
PATH_PATTERN = r"^[a-z0-9_-]+(/[a-z0-9_-]+)+$"


class CoursePoint(Model):
    """One point of a drawn course."""

    at: Annotated[float, number(low=0.0, high=1.0, step=0.001, label="At", help="Share of the length")] = 0.0
    value: Annotated[float, number(low=0.0, high=1.0, step=0.001, label="Value")] = 0.0
    bend: Annotated[
        float, number(low=-1.0, high=1.0, label="Bend", help="Towards the next: below 0 early, above 0 late")
    ] = 0.0


class Course(Model):
    """What a movement goes through. Subclasses declare a `kind` and override `breakpoints` or name a drum to follow."""

    label: ClassVar[str]
    kind: str

    def breakpoints(self) -> Breakpoints:
        """Place, value and bend of each of its points, shape (points, 3)."""
        raise NotImplementedError

    def follows(self) -> str | None:
        """The drum whose level it follows, or the address of the layer; None where it has a course of its own."""
        return None


class DrawnCourse(Course):
    """Points, with lines between them that may bend."""

    label: ClassVar[str] = "Drawn"

    kind: Literal["drawn"] = "drawn"
    points: tuple[CoursePoint, ...] = Field(
        default=(CoursePoint(at=0.0, value=1.0), CoursePoint(at=1.0, value=0.0)),
        min_length=1,
        max_length=MOST_COURSE_POINTS,
    )

    @field_validator("points")
    @classmethod
    def _ascending(cls, points: tuple[CoursePoint, ...]) -> tuple[CoursePoint, ...]:
        return tuple(sorted(points, key=lambda point: point.at))

    def breakpoints(self) -> Breakpoints:
        return np.array([(point.at, point.value, point.bend) for point in self.points])

    def in_words(self) -> str:
        return next((name for name in STARTS if self._is(name)), "drawn")

    def _is(self, name: Start) -> bool:
        return (name == "sine" or name in SIMPLE_POINTS) and self.points == starting_points(name)


class StepCourse(Course):
    """Values one after the other, each as long as the others, with a glide between them."""

    label: ClassVar[str] = "Steps"

    kind: Literal["steps"] = "steps"
    values: Annotated[tuple[float, ...], numbers(low=0.0, high=1.0, most=MOST_STEPS, step=0.001, label="Steps")] = ()
    glide: Annotated[
        float, number(low=0.0, high=1.0, label="Glide", help="Share of a step that goes into reaching it")
    ] = 0.0

    @field_validator("values")
    @classmethod
    def _in_range(cls, values: tuple[float, ...]) -> tuple[float, ...]:
        for value in values:
            if not 0.0 <= value <= 1.0:
                raise ValueError(f"a step is from 0 to 1, not {value}")
        return values

    def breakpoints(self) -> Breakpoints:
        steps = self.values or (0.0,)
        each = 1.0 / len(steps)
        found = [(0.0, steps[0], 0.0)]
        for index, value in enumerate(steps[1:], start=1):
            found += [(index * each, steps[index - 1], 0.0), ((index + self.glide) * each, value, 0.0)]
        return np.array([*found, (1.0, steps[-1], 0.0)])

    def in_words(self) -> str:
        return f"{len(self.values)} steps"


class FollowCourse(Course):
    """The level of a drum or of a layer: 0 where it is as far under its peak as the range is wide, 1 at its peak.

    A layer is followed as it sounds behind its path, before its place and the ducks; what follows something in it is
    left out.
    """

    label: ClassVar[str] = "Follows a sound"

    kind: Literal["follows"] = "follows"
    trigger: Annotated[str, reference(among="sounds", label="Sound")] = "kick"
    attack_ms: Annotated[float, number(low=0.0, high=500.0, step=0.1, unit="ms", label="Attack")] = 5.0
    release_ms: Annotated[float, number(low=5.0, high=5000.0, step=1.0, scale="log", unit="ms", label="Release")] = (
        120.0
    )
    range_db: Annotated[float, number(low=6.0, high=90.0, step=1.0, unit="dB", label="Range")] = 30.0

    def follows(self) -> str | None:
        return self.trigger

    def in_words(self) -> str:
        return "follows a sound"


COURSES: tuple[type[Course], ...] = (DrawnCourse, StepCourse, FollowCourse)
if TYPE_CHECKING:
    AnyCourse = Course
else:
    AnyCourse = tagged_union(COURSES)


class Target(Part):
    """A value that a movement moves, and how far."""

    path: str = Field(default="", max_length=200, description="Address of the value, as layers/mid/level_db")
    travel: Annotated[
        float,
        number(
            low=-2000.0, high=2000.0, label="Travel", help="In its own unit; in octaves where the value is logarithmic"
        ),
    ] = 0.0
    both_ways: Annotated[bool, switch(label="Both ways", help="As far down as up, about the value")] = False


class Movement(Part):
    """A course, when it begins, how long it takes, and what it moves."""

    label: ClassVar[str] = "Movement"

    leading: ClassVar[tuple[str, ...]] = (
        "length_beats",
        "length_ms",
        "rate_hz",
        "begins",
        "trigger",
        "then",
        "smooth_ms",
    )

    name: Annotated[str, text(label="Name", longest=40)] = "Movement"
    on: Annotated[bool, switch(label="On")] = True
    shape: AnyCourse = Field(default_factory=DrawnCourse)
    length_in: Annotated[Literal["beats", "ms", "Hz"], choice(label="Length in")] = "beats"
    length_beats: Annotated[
        float,
        number(
            low=1 / 64,
            high=64.0,
            step=1 / 64,
            scale="log",
            unit="beats",
            label="Length",
            help="Dotted 1.5, triplet 1/3",
        ),
    ] = 1.0
    length_ms: Annotated[float, number(low=1.0, high=60000.0, step=1.0, scale="log", unit="ms", label="Length")] = 500.0
    rate_hz: Annotated[float, number(low=0.01, high=50.0, scale="log", unit="Hz", label="Rate")] = 2.0
    begins: Annotated[
        Literal["note", "bar", "hit", "once", "free"],
        choice(
            label="Begins",
            names={
                "note": "on each note",
                "bar": "on each bar",
                "hit": "on each hit",
                "once": "once",
                "free": "runs on",
            },
        ),
    ] = "note"
    trigger: Annotated[str, reference(among="drums", label="Hits of")] = "kick"
    then: Annotated[
        Literal["holds", "repeats"], choice(label="Then", names={"holds": "stops and holds", "repeats": "repeats"})
    ] = "holds"
    smooth_ms: Annotated[float, number(low=0.0, high=1000.0, step=1.0, unit="ms", label="Smooth")] = 0.0
    scaled: Annotated[
        Literal["nothing", "velocity", "pitch"],
        choice(label="Scaled by", help="Of the note that it begins with; by pitch: in full for an octave above C2"),
    ] = "nothing"
    targets: tuple[Target, ...] = parts("target", most=MOST_TARGETS)

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing at present."""
        lengths = {"beats": "length_beats", "ms": "length_ms", "Hz": "rate_hz"}
        idle = [name for unit, name in lengths.items() if unit != self.length_in]
        if self.begins != "hit":
            idle.append("trigger")
        if self.begins != "note":
            idle.append("scaled")
        if self.begins == "free":
            idle.append("then")
        if self.shape.follows() is not None:
            idle += [*lengths.values(), "length_in", "begins", "trigger", "then", "scaled"]
        return tuple(idle)

    def in_words(self) -> str:
        if self.shape.follows() is not None:
            return self.shape.in_words()
        beats = f"{self.length_beats:.4g} beat{'' if self.length_beats == 1.0 else 's'}"
        length = {"beats": beats, "ms": f"{self.length_ms:g} ms", "Hz": f"{self.rate_hz:g} Hz"}[self.length_in]
        begins = {"note": "on notes", "bar": "on bars", "hit": "on hits", "once": "once", "free": "runs on"}
        return f"{self.shape.in_words()}, {length}, {begins[self.begins]}"

    def sketch(self) -> Sketch | None:
        if self.shape.follows() is not None:
            return None
        return Sketch("course", along(self.shape.breakpoints(), np.linspace(0.0, 1.0, 2 * SKETCH_POINTS)))

    @property
    def repeats(self) -> bool:
        """Whether it begins again at its end."""
        return self.begins == "free" or self.then == "repeats"

    def length_frames(self, clock: Clock) -> float:
        """How long it takes, in frames."""
        if self.length_in == "Hz":
            return clock.rate_hz / self.rate_hz
        if self.length_in == "ms":
            return clock.frames_in_ms(self.length_ms)
        return self.length_beats * 60.0 / clock.tempo_bpm * clock.rate_hz


def starting_points(name: str) -> tuple[CoursePoint, ...]:
    """The points that a starting shape fills in: 'ramp up', 'ramp down', 'triangle', 'sine', 'fall' or 'square'."""
    if name == "sine":
        turns = [index / SINE_POINTS for index in range(SINE_POINTS + 1)]
        return tuple(CoursePoint(at=turn, value=0.5 + 0.5 * math.sin(2.0 * math.pi * turn)) for turn in turns)
    return tuple(CoursePoint(at=at, value=value, bend=bend) for at, value, bend in SIMPLE_POINTS[name])


def starting_course(start: Start, *, seed: int = 1, follows: str = "kick") -> dict[str, Any]:
    """The course that a movement begins with, as it lies in a document."""
    if start == "follow":
        return FollowCourse(trigger=follows).model_dump(mode="json")
    if start == "steps":
        return StepCourse(values=(0.5,) * FIRST_STEPS).model_dump(mode="json")
    if start == "random steps":
        drawn = np.random.default_rng(seed).random(FIRST_STEPS)
        return StepCourse(values=tuple(round(float(value), 3) for value in drawn)).model_dump(mode="json")
    return DrawnCourse(points=starting_points(start)).model_dump(mode="json")
