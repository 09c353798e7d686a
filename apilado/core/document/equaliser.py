"""EQ points. A new kind is a class here and a line in `POINTS`."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np

from apilado.core.dsp import equaliser
from apilado.core.dsp.filters import NO_SECTIONS, Sections
from apilado.core.parameters import Model, choice, number, switch, tagged_union

MOST_POINTS = 16
Slope = Literal[12, 24, 48]


class Point(Model):
    """One point of an EQ. Every kind has a frequency; what else it has, it declares."""

    label: ClassVar[str]
    kind: str
    on: bool = switch(True, label="On")
    frequency_hz: float = number(1000.0, low=20.0, high=20000.0, step=0.1, scale="log", unit="Hz", label="Frequency")

    def sections(self, rate_hz: int) -> Sections:
        """Its filter at a rate."""
        raise NotImplementedError


class _Gained(Point):
    gain_db: float = number(0.0, low=-24.0, high=24.0, step=0.1, unit="dB", label="Gain")
    q: float = number(0.7, low=0.1, high=20.0, scale="log", label="Q")


class Bell(_Gained):
    """A dip or a lift around its frequency."""

    label: ClassVar[str] = "Bell"
    kind: Literal["bell"] = "bell"

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.bell(self.frequency_hz, self.gain_db, self.q, rate_hz)


class LowShelf(_Gained):
    """A step below its frequency."""

    label: ClassVar[str] = "Low shelf"
    kind: Literal["low-shelf"] = "low-shelf"

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.low_shelf(self.frequency_hz, self.gain_db, self.q, rate_hz)


class HighShelf(_Gained):
    """A step above its frequency."""

    label: ClassVar[str] = "High shelf"
    kind: Literal["high-shelf"] = "high-shelf"

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.high_shelf(self.frequency_hz, self.gain_db, self.q, rate_hz)


class HighPass(Point):
    """Takes away what lies below its frequency."""

    label: ClassVar[str] = "High-pass"
    kind: Literal["high-pass"] = "high-pass"
    slope_db_per_octave: Slope = choice(24, label="Slope", unit="dB/oct")

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.butterworth_high_pass(self.frequency_hz, self.slope_db_per_octave, rate_hz)


class LowPass(Point):
    """Takes away what lies above its frequency."""

    label: ClassVar[str] = "Low-pass"
    kind: Literal["low-pass"] = "low-pass"
    slope_db_per_octave: Slope = choice(24, label="Slope", unit="dB/oct")

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.butterworth_low_pass(self.frequency_hz, self.slope_db_per_octave, rate_hz)


POINTS: tuple[type[Point], ...] = (HighPass, LowShelf, Bell, HighShelf, LowPass)

if TYPE_CHECKING:
    AnyPoint = Point
else:
    AnyPoint = tagged_union(POINTS)


def eq_sections(points: tuple[Point, ...], rate_hz: int) -> Sections:
    """The cascade of all points that are on; shape (sections, 5)."""
    parts = [point.sections(rate_hz) for point in points if point.on]
    return np.vstack(parts) if parts else NO_SECTIONS
