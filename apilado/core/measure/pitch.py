"""The fundamental of a note."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.kernels import inlined, kernel, summing_kernel
from apilado.core.measure.windows import hann_within

LOWEST_HZ, HIGHEST_HZ = 18.0, 2000.0
COARSE_HZ = 12000.0
FEWEST_FRAMES, SILENT = 64, 1e-10
AS_HIGH = 0.95
CLEAR, LIKELY, IN_HARMONICS = 0.85, 0.75, 0.2
"""A period is believed from `CLEAR` on, from `LIKELY` on where the harmonics agree with it."""
DOUBTED_BELOW_HZ, MULTIPLES, AMISS = 400.0, np.array([2.0, 3.0, 0.5, 1.0 / 3.0]), 0.03
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
    return pitches_hz([signal], rate_hz)[0]


def pitches_hz(signals: Sequence[NDArray[np.floating]], rate_hz: float) -> list[float | None]:
    """`pitch_hz` of each of many notes: those of one length are transformed together, which takes half the time."""
    # Fundamentals lie far below half of a quarter of the rate: means of some frames will do, and are quicker.
    step = max(1, round(rate_hz / COARSE_HZ))
    low = [_means(np.ascontiguousarray(each), step) for each in signals]
    found: list[float | None] = [None] * len(low)
    for frames in {each.shape[0] for each in low if each.shape[0] >= FEWEST_FRAMES}:
        alike = [n for n, each in enumerate(low) if each.shape[0] == frames and np.dot(each, each) >= SILENT * frames]
        if alike:
            for n, hertz in zip(alike, _pitches(np.stack([low[n] for n in alike]), rate_hz / step), strict=True):
                found[n] = hertz
    return found


@summing_kernel
def _means(signal: Any, step: int) -> Any:
    """The means of so many frames each; what is left over at the end goes."""
    means = np.empty(signal.shape[0] // step)
    for n in range(means.shape[0]):
        total = 0.0
        for k in range(step):
            total += signal[n * step + k]
        means[n] = total / step
    return means


@dataclass(frozen=True)
class _Candidates:
    """Periods that a note may have."""

    hertz: NDArray[np.float64]
    """Those between which the harmonics decide, the first of them the one that stands without them."""
    height: NDArray[np.float64]
    """How well it repeats in each, up to 1."""

    @property
    def clear(self) -> bool:
        """Whether nothing is left to decide."""
        return self.hertz.shape[0] == 1 and float(self.height[0]) >= CLEAR


def _pitches(notes: Signal, rate_hz: float) -> list[float | None]:
    """The fundamentals of notes of one length, shape (notes, frames)."""
    likenesses = normalised_square_differences(notes, int(rate_hz / LOWEST_HZ) + 2)
    candidates = [_candidates(likeness, rate_hz) for likeness in likenesses]
    doubted = [n for n, each in enumerate(candidates) if each and not each.clear]
    roots = dict(zip(doubted, _roots(notes[doubted], rate_hz), strict=True)) if doubted else {}
    width = rate_hz / _roots_length(notes.shape[1])
    return [
        None
        if each is None
        else float(each.hertz[0])
        if each.clear
        else _decided(each, harmonic_strength(roots[n], each.hertz, width))
        for n, each in enumerate(candidates)
    ]


def _candidates(likeness: Signal, rate_hz: float) -> _Candidates | None:
    periods, heights = _peaks(likeness, rate_hz / HIGHEST_HZ)
    periods, heights = _rivals(periods, heights, rate_hz / DOUBTED_BELOW_HZ, MULTIPLES)
    return _Candidates(rate_hz / periods, heights) if periods.shape[0] else None


@kernel
def _peaks(likeness: Any, shortest: float) -> Any:
    """(periods in frames, heights) of the peaks behind the first fall below 0, each drawn as a parabola through three
    lags; none where no lag itself reaches `LIKELY`."""
    periods, heights = np.empty(likeness.shape[0]), np.empty(likeness.shape[0])
    count, fallen, highest = 0, False, 0.0
    for lag in range(1, likeness.shape[0] - 1):
        a, b, c = likeness[lag - 1], likeness[lag], likeness[lag + 1]
        fallen = fallen or b < 0.0
        if fallen and lag >= shortest and b > 0.0 and b > a and b >= c:
            aside = 0.5 * (a - c) / (a - 2.0 * b + c)  # a peak bends: its second difference is not 0
            periods[count], heights[count] = lag + aside, b - 0.25 * (a - c) * aside
            count, highest = count + 1, max(highest, b)
    if highest < LIKELY:
        count = 0
    return periods[:count], heights[:count]


@kernel
def _rivals(periods: Any, heights: Any, doubted_from: float, multiples: Any) -> Any:
    """(periods, heights) of the first high peak and of those that may be meant instead: a few times as long or as
    short, where it is not so short that it is beyond doubt."""
    chosen = np.zeros(periods.shape[0], np.int64)
    if periods.shape[0] == 0:
        return periods[chosen], heights[chosen]
    first = np.argmax(heights >= AS_HIGH * np.max(heights))
    chosen[0], count = first, 1
    for n in range(periods.shape[0]):
        beside = periods[first] / periods[n]
        near = np.min(np.abs(beside / multiples - 1.0)) < AMISS
        # A longer period has to repeat better than the first, a shorter one nearly as well.
        least = heights[first] + LONGER_BY if beside < 1.0 else LIKELY
        if periods[first] > doubted_from and near and heights[n] >= least:
            chosen[count] = n
            count += 1
    return periods[chosen[:count]], heights[chosen[:count]]


def _decided(between: _Candidates, said: NDArray[np.float64]) -> float | None:
    """The one of the candidates for which the harmonics speak, if any is believed."""
    score = said + between.height
    chosen = int(np.argmax(score))
    chosen = chosen if score[chosen] > score[0] + BETTER_BY else 0
    if between.height[chosen] < CLEAR and said[chosen] < IN_HARMONICS:
        return None
    return float(between.hertz[chosen])


def normalised_square_differences(notes: Signal, lags: int) -> Signal:
    """How alike each signal and itself some frames later are, -1 to 1, by lag; shape (notes, lags) or less lags."""
    frames = notes.shape[1]
    lags = min(frames - 1, lags)
    length = fft.next_fast_len(frames + lags, real=True)  # what comes round lies behind the lags
    lines = fft.rfft(notes, length)
    correlation = fft.irfft(lines.real**2 + lines.imag**2, length)[:, :lags]
    squares = np.pad(np.cumsum(notes * notes, axis=1), ((0, 0), (1, 0)))
    until, after = squares[:, : frames - lags : -1], squares[:, :lags]
    norm = until + (squares[:, -1:] - after)
    return np.asarray(np.divide(2.0 * correlation, norm, out=np.zeros(norm.shape), where=norm > 0.0))


def _roots_length(frames: int) -> int:
    return int(fft.next_fast_len(3 * frames, real=True))


def _roots(notes: Signal, rate_hz: float) -> Signal:
    """Square roots of the amplitudes in the spectra of notes, up to `HARMONICS_TO_HZ`; shape (notes, lines)."""
    length = _roots_length(notes.shape[1])
    lines = fft.rfft(notes * hann_within(notes.shape[1]), length)
    return np.asarray(np.sqrt(np.abs(lines[:, : int(HARMONICS_TO_HZ * length / rate_hz) + 1])))


@inlined
def _up_to(sums: Any, place: float) -> Any:
    """A sum up to a place between two lines."""
    line = min(max(int(place), 0), sums.shape[0] - 2)
    return sums[line] + min(max(place - line, 0.0), 1.0) * (sums[line + 1] - sums[line])


@kernel
def harmonic_strength(roots: Any, frequencies_hz: Any, width: float) -> Any:
    """How much of a signal lies at the first and the prime harmonics of frequencies and not halfway between, up to 1.

    After A. Camacho, J. G. Harris, "A sawtooth waveform inspired pitch estimator for speech and music", JASA 124
    (2008): square roots of amplitudes, weights falling with the root of frequency; their cosines are boxes here.

    Args:
        roots: square roots of amplitudes, one line every `width` Hz from 0 on, shape (lines,).
        frequencies_hz: shape (frequencies,).

    Returns:
        Shape (frequencies,).
    """
    found, sums, squares = np.zeros(frequencies_hz.shape[0]), np.zeros(roots.shape[0] + 1), 0.0
    for line in range(roots.shape[0]):
        sums[line + 1] = sums[line] + roots[line]
        squares += roots[line] * roots[line]
    for n in range(frequencies_hz.shape[0]):
        said, weights, hertz = 0.0, 0.0, frequencies_hz[n]
        for harmonic in HARMONICS:
            if (harmonic + 0.25) * hertz <= HARMONICS_TO_HZ:
                here, quarter = hertz * harmonic / width + 0.5, 0.25 * hertz / width
                before, low = _up_to(sums, here - 3.0 * quarter), _up_to(sums, here - quarter)
                high, behind = _up_to(sums, here + quarter), _up_to(sums, here + 3.0 * quarter)
                said += (high - low - 0.5 * (low - before + behind - high)) / np.sqrt(harmonic * hertz)
                weights += 1.0 / (harmonic * hertz)
        if weights * squares > 0.0:
            found[n] = said / np.sqrt(weights * hertz / (2.0 * width) * squares)
    return found
