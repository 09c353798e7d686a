"""Long-term balance against a curve or against another piece, level-matched."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.measure.loudness import Loudness, measure_loudness
from apilado.core.measure.stem import StemMeasures, measured
from apilado.core.units import power_to_db

PART_SECONDS = 15
QUIET_DB = -60.0
"""Bands further than this under the strongest are not compared."""


@dataclass(frozen=True, eq=False)
class Comparison:
    """Per third-octave; not a number where either has nothing."""

    difference_db: NDArray[np.float64]
    """Of this against the other, once they are equally loud."""
    width_difference: NDArray[np.float64] | None
    """Of the stereo width, -1 to 1; None against a curve."""
    loudness_difference_lu: float | None
    """Of this against the other, before they are matched."""


@dataclass(frozen=True, eq=False)
class PieceMeasures:
    """A whole piece: its long-term balance and loudness."""

    levels_db: NDArray[np.float64]
    """Per third-octave, both channels."""
    width: NDArray[np.float64]
    loudness: Loudness


def measure_piece(audio: Audio, *, rate_hz: int) -> PieceMeasures:
    """Measures a piece of any length, shape (2, frames), a quarter of a minute at a time.

    A piece may begin and end in the middle of anything: its parts overlap by half under a sine window, which is closed
    at both ends and whose squares add up to 1.
    """
    size = min(PART_SECONDS * rate_hz, audio.shape[1])
    window = (math.sqrt(2.0) * np.sin(np.pi * (np.arange(size) + 0.5) / size)).astype(np.float32)
    starts = range(0, audio.shape[1] - size + 1, max(1, size // 2))
    both = mid = side = np.zeros(1)
    for start in starts:
        stem = measured(np.ascontiguousarray(audio[:, start : start + size] * window), rate_hz)
        both = both + (stem.left_power + stem.right_power) / (2.0 * len(starts))
        mid, side = mid + stem.mid_power / len(starts), side + stem.side_power / len(starts)
    return _piece(both, mid, side, measure_loudness(audio, rate_hz=rate_hz))


def piece_of(stem: StemMeasures, loudness: Loudness) -> PieceMeasures:
    """What has been measured of a loop, as of a piece."""
    return _piece((stem.left_power + stem.right_power) / 2.0, stem.mid_power, stem.side_power, loudness)


def _piece(
    both: NDArray[np.float64], mid: NDArray[np.float64], side: NDArray[np.float64], loudness: Loudness
) -> PieceMeasures:
    total = mid + side
    width = np.divide(side, total, out=np.zeros_like(total), where=total > 1e-15)
    return PieceMeasures(np.asarray(power_to_db(both)), width, loudness)


def third_levels(stem: StemMeasures) -> NDArray[np.float64]:
    """Level in dB per third-octave, both channels."""
    return np.asarray(power_to_db((stem.left_power + stem.right_power) / 2.0))


def _compared(own: NDArray[np.float64], other: NDArray[np.float64], shift: float) -> NDArray[np.float64]:
    both = (own > np.max(own) + QUIET_DB) & (other > np.max(other) + QUIET_DB)
    return np.where(both, own - other - shift, np.nan)


def against_piece(own: PieceMeasures, other: PieceMeasures) -> Comparison:
    """Against another piece, matched by integrated loudness."""
    shift = own.loudness.integrated_lkfs - other.loudness.integrated_lkfs
    return Comparison(_compared(own.levels_db, other.levels_db, shift), own.width - other.width, shift)


def against_curve(stem: StemMeasures, curve_db: NDArray[np.float64]) -> Comparison:
    """Against a curve of levels per third-octave, matched by the mean difference over the bands that sound."""
    own = third_levels(stem)
    there = own > np.max(own) + QUIET_DB / 2.0
    shift = float(np.mean((own - curve_db)[there]))
    return Comparison(np.where(there, own - curve_db - shift, np.nan), None, None)
