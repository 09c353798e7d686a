"""What carving is made of: carve pairs, gentle points, and the balance that a target asks for."""

from __future__ import annotations

from types import MappingProxyType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.document.carving import MOST_PAIRS, TargetName
from apilado.core.document.editing import Edit
from apilado.core.document.edits_carving import AddPair, AddPoint
from apilado.core.document.equaliser import MOST_POINTS
from apilado.core.document.stack import Stack
from apilado.core.measure.bands import band_centres

PAIR_Q, KEYED_Q = 1.2, 1.4
KEYED_TIMES = MappingProxyType({"threshold_db": -18.0, "release_ms": 50.0})
"""Open only while the drum is at its loudest: the deeper it may be."""

TARGETS: MappingProxyType[TargetName, tuple[tuple[float, float], ...]] = MappingProxyType(
    {
        "clean lower mids": (
            (30.0, 0.0),
            (45.0, 8.0),
            (80.0, 6.0),
            (125.0, 0.0),
            (200.0, -2.0),
            (320.0, -6.0),
            (500.0, -4.0),
            (1000.0, -5.0),
            (4000.0, -12.0),
            (16000.0, -27.0),
        ),
        "thick lower mids": (
            (30.0, 0.0),
            (45.0, 8.0),
            (80.0, 6.0),
            (125.0, 1.0),
            (200.0, 0.0),
            (320.0, 2.0),
            (500.0, -1.0),
            (1000.0, -5.0),
            (4000.0, -12.0),
            (16000.0, -27.0),
        ),
        "flat": ((20.0, 0.0), (2000.0, 0.0), (16000.0, -9.0)),
    }
)
"""Our own curves for the long-term balance of a bass: (Hz, dB per third-octave), straight lines between.
A further target, `finished piece`, is measured."""


def target_curve(name: TargetName) -> NDArray[np.float64]:
    """The level in dB per third-octave that one of our own targets asks for, up to a constant."""
    hertz, levels = zip(*TARGETS[name], strict=True)
    return np.asarray(np.interp(np.log(band_centres(3)), np.log(hertz), levels))


def rise_of_curve(curve_db: NDArray[np.float64], low_hz: float, high_hz: float) -> float:
    """How far a curve of third-octaves lies, from `low_hz` to `high_hz`, over the mean of the octaves around."""
    centres = band_centres(3)

    def mean(low: float, high: float) -> float:
        inside = (centres >= low * 0.99) & (centres <= high * 1.01)
        return float(np.mean(curve_db[inside]))

    return mean(low_hz, high_hz) - (mean(low_hz / 2.0, low_hz) + mean(high_hz, 2.0 * high_hz)) / 2.0


def pair_edit(
    stack: Stack, dip: str, lift: str, frequency_hz: float, *, dip_db: float, lift_db: float, q: float = PAIR_Q
) -> Edit | None:
    """An edit that carves a pair between two parts; None when the stack has as many as there can be."""
    if len(stack.pairs) >= MOST_PAIRS:
        return None
    values = {"frequency_hz": round(frequency_hz, 1), "dip_db": dip_db, "lift_db": lift_db, "q": q}
    return AddPair(dip=dip, lift=lift, values=values)


def point_edit(stack: Stack, owner: str, point: dict[str, Any]) -> Edit | None:
    """An edit that adds a point to the EQ of an owner that stands last; None where that EQ is full."""
    last = stack.last_eq(owner)
    full = last is not None and len(stack.equalisers()[last].points) >= MOST_POINTS
    return None if full else AddPoint(to=owner, point=point)


def bell_edit(stack: Stack, owner: str, frequency_hz: float, gain_db: float, q: float) -> Edit | None:
    """An edit that adds a bell to the EQ of an owner; None where that EQ is full."""
    part = {"kind": "bell", "frequency_hz": round(frequency_hz, 1), "gain_db": round(gain_db, 1), "q": round(q, 2)}
    return point_edit(stack, owner, part)


def keyed_bell_edit(stack: Stack, owner: str, trigger: str, frequency_hz: float, dip_db: float) -> Edit | None:
    """An edit that adds a dip that opens while a trigger sounds; None where that EQ is full."""
    shape = {"frequency_hz": round(frequency_hz, 1), "gain_db": -round(dip_db, 1), "q": KEYED_Q, **KEYED_TIMES}
    return point_edit(stack, owner, {"kind": "keyed-bell", "trigger": trigger, **shape})
