"""EQ points. A new kind is a class here and a line in `POINTS`."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import equaliser
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value
from apilado.core.dsp.filters import NO_SECTIONS, Sections, high_pass, low_pass
from apilado.core.parameters import choice, number, reference, switch, tagged_union
from apilado.core.parts import Part
from apilado.core.shapes.opening import opened_by

if TYPE_CHECKING:
    from apilado.core.dsp.filters import Knots
else:
    # A document holds numbers; a point that is rendered may have what it is at each knot of a movement in their places.
    Knots = float

MOST_POINTS = 32
LISTENING_Q = 0.7071
OPENING_DB, OPENING_RATIO = 12.0, 50.0
"""A keyed bell is all the way open when its trigger is this far over the threshold."""
Slope = Literal[6, 12, 18, 24, 30, 36, 42, 48]
Phase = Literal["minimum-phase", "linear-phase"]


class Point(Part):
    """One point of an EQ. Every kind has a frequency; what else it has, it declares."""

    label: ClassVar[str]
    explains: ClassVar[str] = ""
    """What it is for, in a line."""
    leading: ClassVar[tuple[str, ...]] = ("frequency_hz", "gain_db", "q", "slope_db_per_octave")
    kind: str
    on: Annotated[bool, switch(label="On")] = True
    frequency_hz: Annotated[
        Knots, number(low=20.0, high=20000.0, step=0.1, scale="log", unit="Hz", label="Frequency", moves=True)
    ] = 1000.0

    @classmethod
    def begins(cls) -> dict[str, Any]:
        """One that is added, as it begins."""
        return {"kind": cls.model_fields["kind"].default, **cls.first_values}

    def sections(self, rate_hz: int) -> Sections:
        """Its filter at a rate; of a point that moves, where it is all the way open."""
        raise NotImplementedError

    def touched(self, rate_hz: int) -> Sections:
        """A filter that leaves what the point touches, to be listened to."""
        raise NotImplementedError

    def follows(self) -> str | None:
        """The drum whose sound moves it; None for a point that stands still."""
        return None


class _Gained(Point):
    gain_db: Annotated[Knots, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Gain", moves=True)] = 0.0
    q: Annotated[Knots, number(low=0.1, high=20.0, scale="log", label="Q", moves=True)] = 0.7

    def touched(self, rate_hz: int) -> Sections:
        return equaliser.band_pass(self.frequency_hz, self.q, rate_hz)


class Bell(_Gained):
    """A dip or a lift around its frequency."""

    label: ClassVar[str] = "Bell"
    explains: ClassVar[str] = "A dip or a lift around a frequency"
    first_values: ClassVar[Mapping[str, Any]] = MappingProxyType({"frequency_hz": 300.0})
    kind: Literal["bell"] = "bell"

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.bell(self.frequency_hz, self.gain_db, self.q, rate_hz)


class LowShelf(_Gained):
    """A step below its frequency."""

    label: ClassVar[str] = "Low shelf"
    explains: ClassVar[str] = "A step below a frequency"
    first_values: ClassVar[Mapping[str, Any]] = MappingProxyType({"frequency_hz": 120.0})
    kind: Literal["low-shelf"] = "low-shelf"

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.low_shelf(self.frequency_hz, self.gain_db, self.q, rate_hz)

    def touched(self, rate_hz: int) -> Sections:
        return low_pass(self.frequency_hz, LISTENING_Q, rate_hz)


class HighShelf(_Gained):
    """A step above its frequency."""

    label: ClassVar[str] = "High shelf"
    explains: ClassVar[str] = "A step above a frequency"
    first_values: ClassVar[Mapping[str, Any]] = MappingProxyType({"frequency_hz": 4000.0})
    kind: Literal["high-shelf"] = "high-shelf"

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.high_shelf(self.frequency_hz, self.gain_db, self.q, rate_hz)

    def touched(self, rate_hz: int) -> Sections:
        return high_pass(self.frequency_hz, LISTENING_Q, rate_hz)


class HighPass(Point):
    """Takes away what lies below its frequency."""

    label: ClassVar[str] = "High-pass"
    explains: ClassVar[str] = "Takes away what lies below"
    first_values: ClassVar[Mapping[str, Any]] = MappingProxyType({"frequency_hz": 35.0})
    kind: Literal["high-pass"] = "high-pass"
    slope_db_per_octave: Annotated[Slope, choice(label="Slope", unit="dB/oct")] = 24

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.butterworth_high_pass(self.frequency_hz, self.slope_db_per_octave, rate_hz)

    def touched(self, rate_hz: int) -> Sections:
        return equaliser.butterworth_low_pass(self.frequency_hz, self.slope_db_per_octave, rate_hz)


class LowPass(Point):
    """Takes away what lies above its frequency."""

    label: ClassVar[str] = "Low-pass"
    explains: ClassVar[str] = "Takes away what lies above"
    first_values: ClassVar[Mapping[str, Any]] = MappingProxyType({"frequency_hz": 12000.0})
    kind: Literal["low-pass"] = "low-pass"
    slope_db_per_octave: Annotated[Slope, choice(label="Slope", unit="dB/oct")] = 24

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.butterworth_low_pass(self.frequency_hz, self.slope_db_per_octave, rate_hz)

    def touched(self, rate_hz: int) -> Sections:
        return equaliser.butterworth_high_pass(self.frequency_hz, self.slope_db_per_octave, rate_hz)


class Notch(Point):
    """Takes away one frequency altogether."""

    label: ClassVar[str] = "Notch"
    explains: ClassVar[str] = "Takes away one frequency altogether"
    kind: Literal["notch"] = "notch"
    q: Annotated[Knots, number(low=0.5, high=50.0, scale="log", label="Q", moves=True)] = 8.0

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.notch(self.frequency_hz, self.q, rate_hz)

    def touched(self, rate_hz: int) -> Sections:
        return equaliser.band_pass(self.frequency_hz, self.q, rate_hz)


class Tilt(Point):
    """Turns the whole balance about its frequency: up above by its gain, down below by as much."""

    label: ClassVar[str] = "Tilt"
    explains: ClassVar[str] = "Turns the whole balance about a frequency"
    kind: Literal["tilt"] = "tilt"
    gain_db: Annotated[Knots, number(low=-12.0, high=12.0, step=0.1, unit="dB", label="Gain", moves=True)] = 0.0

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.tilt(self.frequency_hz, self.gain_db, rate_hz)

    def touched(self, rate_hz: int) -> Sections:
        return NO_SECTIONS


class KeyedBell(_Gained):
    """A bell that opens only while a trigger sounds."""

    label: ClassVar[str] = "Keyed bell"
    explains: ClassVar[str] = "Opens only while a drum sounds"
    first_values: ClassVar[Mapping[str, Any]] = MappingProxyType({"frequency_hz": 110.0})
    kind: Literal["keyed-bell"] = "keyed-bell"
    trigger: Annotated[str, reference(among="drums", label="Trigger")] = "kick"
    threshold_db: Annotated[
        Value,
        number(
            low=-60.0,
            high=0.0,
            step=0.1,
            unit="dB",
            label="Threshold",
            help="Of the trigger, which peaks at 0 dB",
            moves=True,
        ),
    ] = -30.0
    attack_ms: Annotated[float, number(low=0.0, high=100.0, step=0.1, unit="ms", label="Attack")] = 2.0
    release_ms: Annotated[float, number(low=5.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Release")] = 80.0

    def sections(self, rate_hz: int) -> Sections:
        return equaliser.bell(self.frequency_hz, self.gain_db, self.q, rate_hz)

    def follows(self) -> str | None:
        return self.trigger

    def opening(self, key: Audio, *, rate_hz: int, looped: bool) -> NDArray[np.float32]:
        """How far it is open at each frame, 0 to 1, from the trigger's sound; shape (frames,)."""
        return opened_by(
            key,
            threshold_db=self.threshold_db,
            range_db=OPENING_DB,
            ratio=OPENING_RATIO,
            knee_db=OPENING_DB,
            attack_ms=self.attack_ms,
            release_ms=self.release_ms,
            rate_hz=rate_hz,
            looped=looped,
        )


POINTS: tuple[type[Point], ...] = (HighPass, LowShelf, Bell, HighShelf, LowPass, Notch, Tilt, KeyedBell)

if TYPE_CHECKING:
    AnyPoint = Point
else:
    AnyPoint = tagged_union(POINTS)


def eq_sections(points: tuple[Point, ...], rate_hz: int) -> Sections:
    """The cascade of all points that are on, those that move all the way open; shape (sections, 5)."""
    parts = [point.sections(rate_hz) for point in points if point.on]
    return np.vstack(parts) if parts else NO_SECTIONS


def still_and_moving(points: tuple[Point, ...]) -> tuple[tuple[Point, ...], tuple[KeyedBell, ...]]:
    """The points that are on: those that stand still, and those that move."""
    active = [point for point in points if point.on]
    moving = tuple(point for point in active if isinstance(point, KeyedBell))
    return tuple(point for point in active if not isinstance(point, KeyedBell)), moving
