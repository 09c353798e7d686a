"""What the parts of one source add up to, against the source."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.measure.bands import band_centres, band_sums
from apilado.core.measure.spectrum import Spectrum, squared
from apilado.core.units import power_to_db

PER_OCTAVE = 12
HIGHEST_HZ = 16000.0
HEARD_DB = -40.0
"""Bands in which the source lies further than this under its strongest are not judged."""


@dataclass(frozen=True)
class PartSum:
    """Where the sum departs most from the source, once they are equally loud in most bands."""

    frequency_hz: float
    deviation_db: float
    """Signed: negative is a dip."""


def fine_powers(
    spectrum: Spectrum, *, gains: tuple[float, ...] = (1.0,), frequencies_hz: tuple[float, ...] = (0.0,)
) -> NDArray[np.float64]:
    """Power per 1/12 octave of both channels under gains at frequencies, ascending, on no particular scale.

    Beyond the last of several frequencies the gain is 0.
    """
    at = spectrum.frequencies_hz
    lines = squared(spectrum.left).astype(np.float64) + squared(spectrum.right)
    if len(gains) > 1:
        lines *= np.interp(at, frequencies_hz, gains, left=gains[0], right=0.0) ** 2
    return np.maximum(band_sums(lines, at, PER_OCTAVE), 0.0)


def part_sum(
    source: NDArray[np.float64], total: NDArray[np.float64], *, between_hz: tuple[float, float]
) -> PartSum | None:
    """The sum of looped parts against the source they were cut from; None where there is nothing to compare.

    Args:
        source: fine powers of what the uncut run of bands keeps of the source.
        total: fine powers of the sum of its parts.
        between_hz: the edges of that run; what lies outside them is not judged, nor what lies above 16 kHz.
    """
    centres = band_centres(PER_OCTAVE)
    judged = source > float(np.max(source, initial=0.0)) * 10.0 ** (HEARD_DB / 10.0)
    judged &= (centres > between_hz[0]) & (centres < min(between_hz[1], HIGHEST_HZ))
    if not np.any(judged) or float(np.max(total)) <= 0.0:
        return None
    ratios = power_to_db(total[judged]) - power_to_db(source[judged])
    apart = ratios - np.median(ratios)
    worst = int(np.argmax(np.abs(apart)))
    return PartSum(float(centres[judged][worst]), float(apart[worst]))
