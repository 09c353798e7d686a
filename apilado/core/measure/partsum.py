"""What the parts of one source add up to, against the source."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_stereo
from apilado.core.measure.bands import band_centres, band_sums
from apilado.core.measure.stem import spectra
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


def part_sum(
    source: Audio,
    *parts: Audio,
    gains: tuple[float, ...],
    frequencies_hz: tuple[float, ...],
    between_hz: tuple[float, float],
    rate_hz: int,
) -> PartSum | None:
    """The sum of looped parts against the source they were cut from; None where there is nothing to compare.

    Args:
        source: shape (1 or 2, frames).
        parts: each of shape (2, frames).
        gains: what the uncut run of bands keeps of the source, at `frequencies_hz`, ascending; 0 beyond them.
        between_hz: the edges of that run; what lies outside them is not judged, nor what lies above 16 kHz.
    """
    total = as_stereo(parts[0])
    for part in parts[1:]:
        total = total + part
    power, wanted = _powers(total), _powers(as_stereo(source))
    at = np.arange(power.shape[0]) * (rate_hz / total.shape[1])
    wanted = wanted * np.interp(at, frequencies_hz, gains, left=gains[0], right=0.0) ** 2
    ours, theirs = (np.maximum(band_sums(lines, at, PER_OCTAVE), 0.0) for lines in (power, wanted))
    centres = band_centres(PER_OCTAVE)
    judged = theirs > float(np.max(theirs, initial=0.0)) * 10.0 ** (HEARD_DB / 10.0)
    judged &= (centres > between_hz[0]) & (centres < min(between_hz[1], HIGHEST_HZ))
    if not np.any(judged) or float(np.max(ours)) <= 0.0:
        return None
    ratios = power_to_db(ours[judged]) - power_to_db(theirs[judged])
    apart = ratios - np.median(ratios)
    worst = int(np.argmax(np.abs(apart)))
    return PartSum(float(centres[judged][worst]), float(apart[worst]))


def _powers(audio: Audio) -> NDArray[np.float64]:
    left, right = spectra(audio, same=bool(np.array_equal(audio[0], audio[1])))
    return np.asarray(np.abs(left).astype(np.float64) ** 2 + np.abs(right).astype(np.float64) ** 2)
