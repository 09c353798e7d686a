"""What is measured of one stem by itself, and kept: levels per band, and the low end line by line."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, peak_of
from apilado.core.dsp.breaking_off import may_break_off
from apilado.core.measure.bands import band_centres, band_edges, line_sums
from apilado.core.measure.spectrum import Spectrum, spectrum_of, squared
from apilado.core.units import power_to_db

FINE, THIRD = 12, 3
LOW_TOP_HZ = 1000.0
"""Up to here every line is kept. It is an edge of the fine bands, which tell what lies above."""


@dataclass(frozen=True, eq=False)
class StemMeasures:
    """Levels are in dB relative to a full-scale sine (a sine of amplitude 1 reads 0)."""

    low: Spectrum
    """The lines up to 1 kHz."""
    fine_db: NDArray[np.float64]
    """Long-term level per 1/12 octave, both channels."""
    mid_power: NDArray[np.float64]
    """Mean power of (L+R)/2 per third-octave, twice the mean square."""
    side_power: NDArray[np.float64]
    left_power: NDArray[np.float64]
    right_power: NDArray[np.float64]
    correlation: NDArray[np.float64]
    """Of left and right per third-octave, -1 to 1; 1 where there is nothing."""
    peak: float
    power: float

    @property
    def width(self) -> NDArray[np.float64]:
        """Stereo width per third-octave: side over mid and side, 0 mono, 0.5 unrelated, 1 all side."""
        total = self.mid_power + self.side_power
        return np.divide(self.side_power, total, out=np.zeros_like(total), where=total > 1e-15)

    def widths_told(self) -> list[float]:
        """The width of each third-octave as piles are drawn by it; -1 where there is nothing."""
        power = self.mid_power + self.side_power
        return [round(float(w), 3) if p > 1e-7 else -1.0 for w, p in zip(self.width, power, strict=True)]

    @property
    def lean(self) -> NDArray[np.float64]:
        """Balance per third-octave: -1 all left, 1 all right."""
        total = self.left_power + self.right_power
        return np.divide(self.right_power - self.left_power, total, out=np.zeros_like(total), where=total > 1e-15)

    def level_db(self) -> float:
        """Long-term level of the whole stem."""
        return float(power_to_db(self.power))

    def power_between(self, low_hz: float, high_hz: float) -> tuple[float, float]:
        """Power of mid and of side in a range of frequencies below 1 kHz.

        Raises:
            ValueError: the range reaches beyond 1 kHz.
        """
        return self.low.power_between(low_hz, high_hz)

    def power_through(self, response: Callable[[NDArray[np.float64]], NDArray[np.float64]]) -> float:
        """Power of both channels that a filter leaves, given its power response over frequency in Hz.

        Exact by lines up to 1 kHz, in bands of a twelfth of an octave above, up to 20 kHz.
        """
        low = self.low
        each = np.array([squared(side) for side in low.channels], np.float64)
        lines: NDArray[np.float64] = np.asarray(each.mean(axis=0)) * low.line_power
        lines[-1] *= min(1.0, LOW_TOP_HZ / low.bin_hz + 0.5 - (lines.shape[0] - 1))  # the rest of it lies in a band
        frequencies, centres = _read_at(lines.shape[0], low.bin_hz)
        bands = 10.0 ** (self.fine_db[-centres.shape[0] :] / 10.0)
        return float(np.dot(lines, response(frequencies)) + np.dot(bands, response(centres)))

    def fine_power_between(self, low_hz: float, high_hz: float) -> float:
        """Power of both channels in the twelfths of an octave whose middle lies in a range of frequencies."""
        centres = band_centres(FINE)
        return float(np.sum(10.0 ** (self.fine_db[(centres >= low_hz) & (centres <= high_hz)] / 10.0)))


@lru_cache(maxsize=4)
def _read_at(lines: int, bin_hz: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Where a response is read: (frequencies of the lines up to 1 kHz, of the twelfths of an octave above), the same
    arrays each time."""
    found = bin_hz * np.arange(lines, dtype=np.float64), band_centres(FINE)[band_edges(FINE)[:-1] > LOW_TOP_HZ * 0.999]
    for each in found:
        each.flags.writeable = False
    return found


def power_of(audio: Audio) -> float:
    """Mean power over all channels, relative to a full-scale sine: one of amplitude 1 has 1."""
    flat = audio.reshape(-1)
    return 2.0 * float(np.dot(flat, flat)) / max(flat.shape[0], 1)


def measure_stem(audio: Audio, spectrum: Spectrum) -> StemMeasures:
    """Measures a looped stem of shape (2, frames), given its spectrum."""
    left, right = spectrum.left, spectrum.right
    same = left is right
    # One-sided: |X|²·2/frames² is the mean square in a bin; twice that, so that a full-scale sine is 1. What is taken
    # away at the edges of an empty band may leave it a hair below zero.
    scale = spectrum.line_power
    fine_left, fine_right, _ = line_sums(left, right, spectrum.bin_hz, FINE) * scale
    may_break_off()
    thirds = line_sums(left, right, spectrum.bin_hz, THIRD) * scale
    left_power, right_power, cross = np.maximum(thirds[0], 0.0), np.maximum(thirds[1], 0.0), thirds[2]
    fine = np.maximum((fine_left + fine_right) / 2.0, 0.0)
    norm = np.sqrt(left_power * right_power)
    correlation = np.divide(cross, norm, out=np.ones_like(norm), where=norm > 1e-15)
    may_break_off()
    side_power = np.zeros_like(left_power) if same else np.maximum((left_power + right_power - 2.0 * cross) / 4.0, 0.0)
    return StemMeasures(
        low=spectrum.below(LOW_TOP_HZ),
        fine_db=power_to_db(fine),
        mid_power=(left_power + right_power + 2.0 * cross) / 4.0,
        side_power=side_power,
        left_power=left_power,
        right_power=right_power,
        correlation=np.clip(correlation, -1.0, 1.0),
        peak=peak_of(audio),
        power=power_of(audio),
    )


def measured(audio: Audio, rate_hz: int) -> StemMeasures:
    """Measures a looped stem of shape (2, frames) from its samples alone."""
    return measure_stem(audio, spectrum_of(audio, rate_hz=rate_hz))


def fold_down_loss_db(stem: StemMeasures) -> float:
    """Level lost when both channels are summed to one: mono sum against stereo power, 0 or negative."""
    left_right = float(np.sum(stem.left_power + stem.right_power))
    mid = float(np.sum(stem.mid_power))
    return float(power_to_db(2.0 * mid / left_right)) if left_right > 1e-12 else 0.0
