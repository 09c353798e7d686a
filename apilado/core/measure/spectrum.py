"""The exact spectrum of a looped stem, from one FFT of its whole length.

A loop is periodic: its spectrum is taken at its exact length, so that what sounds across the seam is no jump and each
of its lines is one bin. Padded to a quicker length, a sine of 39 Hz would leave energy below 30 Hz that is not there.

The length of a loop comes from its tempo and may be a prime: its transform then takes ten times as long, and five times
the memory. A long loop is read anew at a few more points of the same round, of a number that is quick: the lines lie
where they lay, and what they are off by is under -69 dB up to 20 kHz.

A spectrum is as large as the sound itself. What is kept of a stem is taken from it and is small (`stem.py`); only its
low end is kept line by line.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.audio import Audio, is_mono
from apilado.core.dsp.kernels import summing_kernel
from apilado.core.dsp.long_transform import spectra_of_two, spectrum_of_one
from apilado.core.dsp.stereo import read_evenly, read_thinly

LONGEST_EXACT = 2**18
"""Frames of a loop up to which its own length is always transformed: that is quick enough."""
PASSED, THIN = 0.125, 4
"""Of what tells only the low end, so many cycles lie between two points at most; it has so many frames to a point."""
LARGEST_PRIME, QUICK_PRIME = 200, 23
"""A length that has no larger one in it is quick enough to be taken; one that is chosen has none larger than that."""


@dataclass(frozen=True, eq=False)
class Spectrum:
    """Lines of both channels of a loop, from 0 Hz up."""

    rate_hz: int
    frames: int
    left: NDArray[np.complex64]
    """Spectrum of the left channel; bin k lies at k·bin_hz."""
    right: NDArray[np.complex64]
    """The same array as `left` where both channels are alike."""

    @property
    def bin_hz(self) -> float:
        """From one line to the next."""
        return self.rate_hz / self.frames

    @property
    def frequencies_hz(self) -> NDArray[np.float64]:
        """Of the lines."""
        return np.arange(self.left.shape[0], dtype=np.float64) * self.bin_hz

    @property
    def line_power(self) -> float:
        """Power of a bin of magnitude 1: a full-scale sine is 1."""
        return 4.0 / float(self.frames) ** 2

    @property
    def channels(self) -> tuple[NDArray[np.complex64], ...]:
        """The channels that differ: one or two."""
        return (self.left,) if self.left is self.right else (self.left, self.right)

    def below(self, hertz: float) -> Spectrum:
        """A copy that ends with the bin that holds a frequency."""
        last = min(self.left.shape[0], math.floor(hertz / self.bin_hz + 0.5) + 1)
        left = self.left[:last].copy()
        return replace(self, left=left, right=left if self.right is self.left else self.right[:last].copy())

    def power_between(self, low_hz: float, high_hz: float) -> tuple[float, float]:
        """Power of mid and of side in a range of frequencies.

        Raises:
            ValueError: the range reaches beyond the last line.
        """
        low, high = math.ceil(low_hz / self.bin_hz), math.floor(high_hz / self.bin_hz) + 1
        if high <= low:  # no line lies between: the one that is nearest
            low = round((low_hz + high_hz) / 2.0 / self.bin_hz)
            high = low + 1
        if high > self.left.shape[0]:
            raise ValueError(f"no lines are kept up to {high_hz:g} Hz")
        mid, side = _mid_and_side_of(self.left[low:high], self.right[low:high])
        return self.line_power * mid, self.line_power * side


@summing_kernel
def _mid_and_side_of(left: Any, right: Any) -> tuple[float, float]:
    """Squared magnitudes of half the sum and of half the difference of some lines, added up."""
    mid = side = 0.0
    for line in range(left.shape[0]):
        together, apart = left[line] + right[line], left[line] - right[line]
        mid += np.float64(together.real) ** 2 + np.float64(together.imag) ** 2
        side += np.float64(apart.real) ** 2 + np.float64(apart.imag) ** 2
    return mid / 4.0, side / 4.0


def spectrum_of(audio: Audio, *, rate_hz: int) -> Spectrum:
    """The spectrum of a looped stem of shape (1 or 2, frames)."""
    same = is_mono(audio)
    left, right = _spectra(audio, same=same)
    return Spectrum(rate_hz, audio.shape[1], left, right)


def mid_and_side(audio: Audio, *, low_hz: float, high_hz: float, rate_hz: int) -> tuple[float, float]:
    """Power of mid and of side of a looped stem in a range of frequencies."""
    return _low_end(audio, high_hz, rate_hz).power_between(low_hz, high_hz)


def _low_end(audio: Audio, high_hz: float, rate_hz: int) -> Spectrum:
    """The spectrum of a looped stem up to a frequency at least, and little more: of so few points as tell it."""
    frames = audio.shape[1]
    lines = math.floor(high_hz * frames / rate_hz) + 2
    points = _quick(math.ceil(lines / PASSED))
    if THIN * points > frames:
        return spectrum_of(audio, rate_hz=rate_hz)
    read = read_thinly(audio[:1] if is_mono(audio) else audio, points, PASSED)
    found = fft.rfft(read, axis=1)[:, :lines] * np.float32(frames / points)
    return Spectrum(rate_hz, frames, found[0], found[-1])


def _points_for(frames: int) -> int:
    """At how many points of its round a loop is read."""
    return _quick(frames) if frames > LONGEST_EXACT and _largest_prime(frames) > LARGEST_PRIME else frames


def _spectra(audio: Audio, *, same: bool) -> tuple[NDArray[np.complex64], ...]:
    frames = audio.shape[1]
    lines, points = frames // 2 + 1, _points_for(frames)
    if same:
        read, gain = _read(audio[0], np.empty(points, np.float32)), frames / points
        left = fft.rfft(read) if points % 2 else spectrum_of_one(read, gain)[:lines]
        return left, left
    both = np.empty(points, np.complex64)
    _read(audio[0], both.real)
    _read(audio[1], both.imag)
    return spectra_of_two(both, lines, frames / points)


def _read(channel: NDArray[np.float32], points: NDArray[np.float32]) -> NDArray[np.float32]:
    """A channel at so many points of its round; itself where these are its frames."""
    if points.shape == channel.shape:
        points[...] = channel
    else:
        read_evenly(channel, points)
    return points


@lru_cache(maxsize=16)
def _quick(frames: int) -> int:
    """The next even number of points that is quick: it lies so near that a point lies nearly where a frame does."""
    points = frames + frames % 2
    while _largest_prime(points) > QUICK_PRIME:
        points += 2
    return points


def _largest_prime(number: int) -> int:
    """The largest prime that divides a number of at least 2."""
    prime = 2
    while prime * prime <= number:
        if number % prime:
            prime += 1
        else:
            number //= prime
    return number


def squared(lines: NDArray[np.complex64]) -> NDArray[np.float32]:
    """Squares of the magnitudes of lines."""
    result: NDArray[np.float32] = lines.real**2 + lines.imag**2
    return result
