"""Course: values one after the other, with a glide between them."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import field_validator

from apilado.core.dsp.courses import Breakpoints
from apilado.core.parameters import number, numbers
from apilado.core.shapes.base import Course

MOST_STEPS = 64


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
