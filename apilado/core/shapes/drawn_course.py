"""Course: points, with lines between them that may bend; and the starting shapes that fill them in."""

from __future__ import annotations

import math
from types import MappingProxyType
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator

from apilado.core.dsp.courses import Breakpoints
from apilado.core.parameters import Model, number
from apilado.core.shapes.base import Course

MOST_COURSE_POINTS = 128
SINE_POINTS = 64
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
DRAWN_STARTS = (*SIMPLE_POINTS, "sine")


class CoursePoint(Model):
    """One point of a drawn course."""

    at: Annotated[float, number(low=0.0, high=1.0, step=0.001, label="At", help="Share of the length")] = 0.0
    value: Annotated[float, number(low=0.0, high=1.0, step=0.001, label="Value")] = 0.0
    bend: Annotated[
        float, number(low=-1.0, high=1.0, label="Bend", help="Towards the next: below 0 early, above 0 late")
    ] = 0.0


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
        return next((name for name in DRAWN_STARTS if self._is(name)), "drawn")

    def _is(self, name: str) -> bool:
        return self.points == starting_points(name)


def starting_points(name: str) -> tuple[CoursePoint, ...]:
    """The points that a starting shape fills in: 'ramp up', 'ramp down', 'triangle', 'sine', 'fall' or 'square'."""
    if name == "sine":
        turns = [index / SINE_POINTS for index in range(SINE_POINTS + 1)]
        return tuple(CoursePoint(at=turn, value=0.5 + 0.5 * math.sin(2.0 * math.pi * turn)) for turn in turns)
    return tuple(CoursePoint(at=at, value=value, bend=bend) for at, value, bend in SIMPLE_POINTS[name])
