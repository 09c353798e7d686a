"""Ripple of a sum of responses."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.units import gain_to_db


@dataclass(frozen=True)
class Ripple:
    """The greatest departure from flat in a range of frequencies."""

    frequency_hz: float
    deviation_db: float
    """Signed: negative is a dip."""


def worst_ripple(
    response: NDArray[np.complex128], frequencies_hz: NDArray[np.float64], low_hz: float, high_hz: float
) -> Ripple:
    """The greatest departure of a response from 0 dB between two frequencies."""
    inside = (frequencies_hz >= low_hz) & (frequencies_hz <= high_hz)
    levels = np.asarray(gain_to_db(np.abs(response[inside])))
    worst = int(np.argmax(np.abs(levels)))
    return Ripple(float(frequencies_hz[inside][worst]), float(levels[worst]))
