"""The fundamental of a note."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import fft

LOWEST_HZ, HIGHEST_HZ = 18.0, 2000.0
COARSE_HZ = 12000.0
AS_HIGH = 0.95
CLEAR, LIKELY, IN_HARMONICS = 0.85, 0.75, 0.2
"""A period is believed from `CLEAR` on, from `LIKELY` on where the harmonics agree with it."""
DOUBTED_BELOW_HZ, MULTIPLES, AMISS = 400.0, (2.0, 3.0, 0.5, 1.0 / 3.0), 0.03
BETTER_BY, LONGER_BY = 0.03, 0.005
HARMONICS = np.array([1.0, 2.0, 3.0, 5.0, 7.0, 11.0, 13.0])
HARMONICS_TO_HZ = 2500.0

Signal = NDArray[np.float64]


def pitch_hz(signal: NDArray[np.floating], rate_hz: float) -> float | None:
    """Fundamental of a steady or dying note, shape (frames,), or None where there is no clear pitch.

    The first high peak of the normalised square difference function, parabolically refined (P. McLeod, G. Wyvill,
    "A smarter way to find pitch", ICMC 2005). Of an octave or a twelfth beside it that repeats nearly as well,
    the one wins that the harmonics speak for: strings whose fundamental is weak are otherwise heard an octave too high.
    """
    # Fundamentals lie far below half of a quarter of the rate: means of some frames will do, and are quicker.
    step = max(1, round(rate_hz / COARSE_HZ))
    kept = signal.shape[0] // step * step
    x = np.asarray(signal[:kept], np.float64).reshape(-1, step).mean(axis=1)
    rate_hz = rate_hz / step
    frames = x.shape[0]
    if frames < 64 or float(np.dot(x, x)) < 1e-10 * frames:
        return None
    likeness = normalised_square_difference(x, int(rate_hz / LOWEST_HZ) + 2)
    inner = likeness[1:-1]
    peaks = np.flatnonzero((inner > likeness[:-2]) & (inner >= likeness[2:]) & (inner > 0.0)) + 1
    below = np.flatnonzero(likeness < 0.0)
    if below.size == 0:
        return None
    peaks = peaks[(peaks > below[0]) & (peaks >= rate_hz / HIGHEST_HZ)]
    if peaks.size == 0 or float(np.max(likeness[peaks])) < LIKELY:
        return None
    a, b, c = likeness[peaks - 1], likeness[peaks], likeness[peaks + 1]
    aside = 0.5 * (a - c) / (a - 2.0 * b + c)  # a peak bends: its second difference is not 0
    found, height = rate_hz / (peaks + aside), b - 0.25 * (a - c) * aside
    first = int(np.argmax(height >= AS_HIGH * np.max(height)))
    beside = found / found[first]
    rivals = [first]
    if found[first] < DOUBTED_BELOW_HZ:
        near = np.min(np.abs(beside[:, None] / np.asarray(MULTIPLES) - 1.0), axis=1) < AMISS
        # A longer period has to repeat better than the first, a shorter one nearly as well.
        rivals += list(np.flatnonzero(near & (height >= np.where(beside < 1.0, height[first] + LONGER_BY, LIKELY))))
    if len(rivals) == 1 and height[first] >= CLEAR:
        return float(found[first])
    said = harmonic_strength(x, found[rivals], rate_hz)
    score = said + height[rivals]
    chosen = int(np.argmax(score))
    chosen = chosen if score[chosen] > score[0] + BETTER_BY else 0
    if height[rivals[chosen]] < CLEAR and said[chosen] < IN_HARMONICS:
        return None
    return float(found[rivals[chosen]])


def normalised_square_difference(x: Signal, lags: int) -> Signal:
    """How alike a signal and itself some frames later are, -1 to 1, by lag; shape (lags,) or less."""
    frames = x.shape[0]
    length = fft.next_fast_len(2 * frames, real=True)
    lags = min(frames - 1, lags)
    correlation = fft.irfft(np.abs(fft.rfft(x, length)) ** 2, length)[:lags]
    squares = np.concatenate([[0.0], np.cumsum(x * x)])
    norm = squares[frames - np.arange(lags)] + (squares[-1] - squares[np.arange(lags)])
    return np.asarray(np.divide(2.0 * correlation, norm, out=np.zeros(lags), where=norm > 0.0))


def harmonic_strength(x: Signal, frequencies_hz: NDArray[np.float64], rate_hz: float) -> NDArray[np.float64]:
    """How much of a signal lies at the first and the prime harmonics of frequencies and not halfway between, up to 1.

    After A. Camacho, J. G. Harris, "A sawtooth waveform inspired pitch estimator for speech and music", JASA 124
    (2008): square roots of amplitudes, weights falling with the root of frequency; their cosines are boxes here.
    """
    windowed = x * np.hanning(x.shape[0] + 2)[1:-1]
    length = fft.next_fast_len(3 * x.shape[0], real=True)
    width = rate_hz / length
    roots = np.sqrt(np.abs(fft.rfft(windowed, length)[: int(HARMONICS_TO_HZ / width) + 1]))
    sums = np.concatenate([[0.0], np.cumsum(roots)])
    edges = np.arange(sums.shape[0]) - 0.5
    each = np.asarray(frequencies_hz)[:, None]

    def upto(harmonic: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.asarray(np.interp(each * harmonic / width, edges, sums))

    low, high = upto(HARMONICS - 0.25), upto(HARMONICS + 0.25)
    between = 0.5 * (low - upto(HARMONICS - 0.75) + upto(HARMONICS + 0.75) - high)
    weights = ((HARMONICS + 0.25) * each <= HARMONICS_TO_HZ) / np.sqrt(HARMONICS * each)
    norm = np.sqrt(np.sum(weights**2, axis=1) * each[:, 0] / (2.0 * width)) * np.sqrt(np.sum(roots**2))
    said = np.sum(weights * (high - low - between), axis=1)
    return np.asarray(np.divide(said, norm, out=np.zeros_like(said), where=norm > 0.0))
