"""What every shape is: how something comes and goes over time, as a duck, or as the course of a movement."""

from __future__ import annotations

from typing import ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.courses import Breakpoints
from apilado.core.parameters import Model


class Shape(Model):
    """How something comes and goes. Subclasses declare a `kind` and parameters."""

    label: ClassVar[str]
    kind: str


class DuckShape(Shape):
    """How a duck moves: from a trigger's sound and hits to gain reduction over time."""

    def reduction(self, key: Audio, starts: tuple[int, ...], clock: Clock) -> NDArray[np.float32]:
        """Gain reduction in dB, 0 and up, shape (clock.frames,).

        Args:
            key: the trigger's sound before its level, shape (2, clock.frames).
            starts: the frame of each hit, ascending.
        """
        raise NotImplementedError

    def lead_ms(self) -> float:
        """How long before a hit it may begin."""
        raise NotImplementedError

    def memory_ms(self) -> float:
        """For how long it remembers the level of its key; 0 where it follows the hits alone."""
        return 0.0

    def back_ms(self, clock: Clock) -> float:
        """The time that brings the bass back: what is shown as a part of the gap between hits."""
        raise NotImplementedError

    def shortened(self, share: float) -> Self | None:
        """The same with a way back of a share of its length; None at its shortest."""
        raise NotImplementedError

    def overdone(self) -> Self:
        """The same, exaggerated: to hear its movement."""
        raise NotImplementedError


class Course(Shape):
    """What a movement goes through. Subclasses declare a `kind` and override `breakpoints` or name a drum to follow."""

    def breakpoints(self) -> Breakpoints:
        """Place, value and bend of each of its points, shape (points, 3)."""
        raise NotImplementedError

    def follows(self) -> str | None:
        """The drum whose level it follows, or the address of the layer; None where it has a course of its own."""
        return None
