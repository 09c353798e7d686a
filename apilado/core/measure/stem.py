"""What is measured of one stem by itself, from one FFT of its whole length.

A loop is periodic: its spectrum is taken at its exact length, so that what sounds across the seam is no jump and each
of its lines is one bin. Padded to a quicker length, a sine of 39 Hz would leave energy below 30 Hz that is not there.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from apilado.core.dsp.audio import Audio
from apilado.core.measure.bands import band_sums
from apilado.core.units import power_to_db

FINE, THIRD = 12, 3


@dataclass(frozen=True, eq=False)
class StemMeasures:
    """Levels are in dB relative to a full-scale sine (a sine of amplitude 1 reads 0)."""

    rate_hz: int
    frames: int
    left: NDArray[np.complex64]
    """Spectrum of the left channel; bin k lies at k·bin_hz."""
    right: NDArray[np.complex64]
    bin_hz: float
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

    @property
    def lean(self) -> NDArray[np.float64]:
        """Balance per third-octave: -1 all left, 1 all right."""
        total = self.left_power + self.right_power
        return np.divide(self.right_power - self.left_power, total, out=np.zeros_like(total), where=total > 1e-15)

    def level_db(self) -> float:
        """Long-term level of the whole stem."""
        return float(power_to_db(self.power))

    def power_between(self, low_hz: float, high_hz: float) -> tuple[float, float]:
        """Power of mid and of side in a range of frequencies."""
        low, high = math.ceil(low_hz / self.bin_hz), math.floor(high_hz / self.bin_hz) + 1
        if high <= low:  # no line lies between: the one that is nearest
            low = round((low_hz + high_hz) / 2.0 / self.bin_hz)
            high = low + 1
        left, right = self.left[low:high], self.right[low:high]
        mid = float(np.sum(np.abs(left + right).astype(np.float64) ** 2)) / 4.0
        side = float(np.sum(np.abs(left - right).astype(np.float64) ** 2)) / 4.0
        return self.line_power * mid, self.line_power * side

    @property
    def line_power(self) -> float:
        """Power of a bin of magnitude 1: a full-scale sine is 1."""
        return 4.0 / float(self.frames) ** 2

    def power_through(self, response: Callable[[NDArray[np.float64]], NDArray[np.float64]]) -> float:
        """Power of both channels that a filter leaves, given its power response over frequency in Hz."""
        weights = response(np.arange(self.left.shape[0], dtype=np.float64) * self.bin_hz)
        lines = _squared(self.left).astype(np.float64)
        if self.right is not self.left:
            lines = (lines + _squared(self.right)) / 2.0
        return self.line_power * float(np.dot(lines, weights))


def measure_stem(audio: Audio, *, rate_hz: int) -> StemMeasures:
    """Measures a looped stem of shape (2, frames)."""
    frames = audio.shape[1]
    same = audio[0] is audio[1] or bool(np.array_equal(audio[0], audio[1]))
    left, right = spectra(audio, same=same)
    frequencies = np.arange(left.shape[0]) * (rate_hz / frames)
    # One-sided: |X|²·2/frames² is the mean square in a bin; twice that, so that a full-scale sine is 1.
    scale = 4.0 / float(frames) ** 2
    left_bins = _squared(left)
    right_bins = left_bins if same else _squared(right)
    cross_bins = left_bins if same else (left * np.conj(right)).real

    def thirds(bins: NDArray[np.floating]) -> NDArray[np.float64]:
        sums: NDArray[np.float64] = band_sums(bins, frequencies, THIRD) * scale
        return sums

    # The running sum may leave an empty band a hair below zero.
    left_power = np.maximum(thirds(left_bins), 0.0)
    right_power = left_power if same else np.maximum(thirds(right_bins), 0.0)
    cross = left_power if same else thirds(cross_bins)
    fine = band_sums(left_bins + right_bins, frequencies, FINE) * (scale / 2.0)
    norm = np.sqrt(left_power * right_power)
    correlation = np.divide(cross, norm, out=np.ones_like(norm), where=norm > 1e-15)
    side_power = np.zeros_like(left_power) if same else np.maximum((left_power + right_power - 2.0 * cross) / 4.0, 0.0)
    flat = audio.reshape(-1)
    return StemMeasures(
        rate_hz=rate_hz,
        frames=frames,
        left=left,
        right=right,
        bin_hz=rate_hz / frames,
        fine_db=power_to_db(fine),
        mid_power=(left_power + right_power + 2.0 * cross) / 4.0,
        side_power=side_power,
        left_power=left_power,
        right_power=right_power,
        correlation=np.clip(correlation, -1.0, 1.0),
        peak=float(np.max(np.abs(flat), initial=0.0)),
        power=2.0 * float(np.dot(flat, flat)) / max(flat.shape[0], 1),
    )


def spectra(audio: Audio, *, same: bool = False) -> tuple[NDArray[np.complex64], NDArray[np.complex64]]:
    """Spectra of both channels of a loop at its exact length; one array twice where the channels are the `same`."""
    frames = audio.shape[1]
    if same:
        left = fft.rfft(audio[0])
        return left, left
    if fft.next_fast_len(frames, real=True) == frames:
        return fft.rfft(audio[0]), fft.rfft(audio[1])
    # A length with large prime factors costs ten times as much: both channels in one complex transform.
    both = fft.fft(audio[0] + 1j * audio[1])
    upper = both[: frames // 2 + 1]
    lower = np.conj(np.concatenate([both[:1], both[: frames - frames // 2 - 1 : -1]]))
    return (upper + lower) / np.float32(2.0), (upper - lower) / np.complex64(2.0j)


def _squared(spectrum: NDArray[np.complex64]) -> NDArray[np.float32]:
    squared: NDArray[np.float32] = spectrum.real**2 + spectrum.imag**2
    return squared


def fold_down_loss_db(stem: StemMeasures) -> float:
    """Level lost when both channels are summed to one: mono sum against stereo power, 0 or negative."""
    left_right = float(np.sum(stem.left_power + stem.right_power))
    mid = float(np.sum(stem.mid_power))
    return float(power_to_db(2.0 * mid / left_right)) if left_right > 1e-12 else 0.0
