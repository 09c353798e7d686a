"""Movements: how values come to change over time.

One notion for what the trade calls an envelope (it begins on notes and stops), an LFO (it repeats), a step pattern, an
envelope follower and automation (it begins once and is as long as the piece).
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator

from apilado.core.clock import Clock
from apilado.core.dsp.courses import Breakpoints
from apilado.core.parameters import Model, choice, number, numbers, parts, reference, switch, tagged_union, text
from apilado.core.parts import Part

MOST_MOVEMENTS, MOST_TARGETS, MOST_COURSE_POINTS, MOST_STEPS = 32, 16, 128, 64
SINE_POINTS = 64
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
        """The drum whose level it follows; None where it has a course of its own."""
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


class FollowCourse(Course):
    """The level of a drum: 0 where it is as far under its peak as the range is wide, 1 at its peak."""

    label: ClassVar[str] = "Follows a drum"

    kind: Literal["follows"] = "follows"
    trigger: Annotated[str, reference(among="drums", label="Drum")] = "kick"
    attack_ms: Annotated[float, number(low=0.0, high=500.0, step=0.1, unit="ms", label="Attack")] = 5.0
    release_ms: Annotated[float, number(low=5.0, high=5000.0, step=1.0, scale="log", unit="ms", label="Release")] = (
        120.0
    )
    range_db: Annotated[float, number(low=6.0, high=90.0, step=1.0, unit="dB", label="Range")] = 30.0

    def follows(self) -> str | None:
        return self.trigger


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
        return tuple(idle)

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
    simple = {
        "ramp up": ((0.0, 0.0, 0.0), (1.0, 1.0, 0.0)),
        "ramp down": ((0.0, 1.0, 0.0), (1.0, 0.0, 0.0)),
        "triangle": ((0.0, 0.0, 0.0), (0.5, 1.0, 0.0), (1.0, 0.0, 0.0)),
        "fall": ((0.0, 1.0, -0.8), (1.0, 0.0, 0.0)),
        "square": ((0.0, 1.0, 0.0), (0.5, 1.0, 0.0), (0.5, 0.0, 0.0), (1.0, 0.0, 0.0)),
    }
    if name == "sine":
        turns = [index / SINE_POINTS for index in range(SINE_POINTS + 1)]
        return tuple(CoursePoint(at=turn, value=0.5 + 0.5 * math.sin(2.0 * math.pi * turn)) for turn in turns)
    return tuple(CoursePoint(at=at, value=value, bend=bend) for at, value, bend in simple[name])
