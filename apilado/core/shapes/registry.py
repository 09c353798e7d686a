"""Every shape there is, and what it serves. A new one is a file beside this one and a line here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from apilado.core.parameters import tagged_union
from apilado.core.shapes.base import Course, DuckShape, Shape
from apilado.core.shapes.drawn_course import DrawnCourse
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.shapes.follow_course import FollowCourse
from apilado.core.shapes.keyed_duck import KeyedDuck
from apilado.core.shapes.step_course import StepCourse

SHAPES: tuple[type[Shape], ...] = (KeyedDuck, DrawnDuck, DrawnCourse, StepCourse, FollowCourse)
DUCK_SHAPES = tuple(shape for shape in SHAPES if issubclass(shape, DuckShape))
COURSES = tuple(shape for shape in SHAPES if issubclass(shape, Course))

if TYPE_CHECKING:
    AnyDuckShape = DuckShape
    AnyCourse = Course
else:
    AnyDuckShape = tagged_union(DUCK_SHAPES)
    AnyCourse = tagged_union(COURSES)
