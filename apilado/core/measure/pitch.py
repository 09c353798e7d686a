"""The fundamental of a note."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.measure.windows import hann_within

LOWEST_HZ, HIGHEST_HZ = 18.0, 2000.0
COARSE_HZ = 12000.0
FEWEST_FRAMES, SILENT = 64, 1e-10
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
    return pitches_hz([signal], rate_hz)[0]


def pitches_hz(signals: Sequence[NDArray[np.floating]], rate_hz: float) -> list[float | None]:
    """`pitch_hz` of each of many notes: those of one length are transformed together, which takes half the time."""
    # Fundamentals lie far below half of a quarter of the rate: means of some frames will do, and are quicker.
    step = max(1, round(rate_hz / COARSE_HZ))
    low = [
        np.asarray(each[: each.shape[0] // step * step], np.float64).reshape(-1, step).mean(axis=1) for each in signals
    ]
    found: list[float | None] = [None] * len(low)
    for frames in {each.shape[0] for each in low if each.shape[0] >= FEWEST_FRAMES}:
        alike = [n for n, each in enumerate(low) if each.shape[0] == frames and np.dot(each, each) >= SILENT * frames]
        if alike:
            for n, hertz in zip(alike, _pitches(np.stack([low[n] for n in alike]), rate_hz / step), strict=True):
                found[n] = hertz
    return found


@dataclass(frozen=True)
class _Candidates:
    """Periods that a note may have."""

    hertz: NDArray[np.float64]
    height: NDArray[np.float64]
    """How well it repeats in each, up to 1."""
    rivals: list[int]
    """Those between which the harmonics decide, the first of them the one that stands without them."""

    @property
    def clear(self) -> bool:
        """Whether nothing is left to decide."""
        return len(self.rivals) == 1 and self.height[self.rivals[0]] >= CLEAR


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
        else float(each.hertz[each.rivals[0]])
        if each.clear
        else _decided(each, harmonic_strength(roots[n], each.hertz[each.rivals], width))
        for n, each in enumerate(candidates)
    ]


def _candidates(likeness: Signal, rate_hz: float) -> _Candidates | None:
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
    return _Candidates(found, height, rivals)


def _decided(between: _Candidates, said: NDArray[np.float64]) -> float | None:
    """The one of the rivals for which the harmonics speak, if any is believed."""
    height = between.height[between.rivals]
    score = said + height
    chosen = int(np.argmax(score))
    chosen = chosen if score[chosen] > score[0] + BETTER_BY else 0
    if height[chosen] < CLEAR and said[chosen] < IN_HARMONICS:
        return None
    return float(between.hertz[between.rivals[chosen]])


def normalised_square_differences(notes: Signal, lags: int) -> Signal:
    """How alike each signal and itself some frames later are, -1 to 1, by lag; shape (notes, lags) or less lags."""
    frames = notes.shape[1]
    length = fft.next_fast_len(2 * frames, real=True)
    lags = min(frames - 1, lags)
    correlation = fft.irfft(np.abs(fft.rfft(notes, length)) ** 2, length)[:, :lags]
    squares = np.pad(np.cumsum(notes * notes, axis=1), ((0, 0), (1, 0)))
    late = np.arange(lags)
    norm = squares[:, frames - late] + (squares[:, -1:] - squares[:, late])
    return np.asarray(np.divide(2.0 * correlation, norm, out=np.zeros(norm.shape), where=norm > 0.0))


def _roots_length(frames: int) -> int:
    return int(fft.next_fast_len(3 * frames, real=True))


def _roots(notes: Signal, rate_hz: float) -> Signal:
    """Square roots of the amplitudes in the spectra of notes, up to `HARMONICS_TO_HZ`; shape (notes, lines)."""
    length = _roots_length(notes.shape[1])
    lines = fft.rfft(notes * hann_within(notes.shape[1]), length)
    return np.asarray(np.sqrt(np.abs(lines[:, : int(HARMONICS_TO_HZ * length / rate_hz) + 1])))


def harmonic_strength(roots: Signal, frequencies_hz: NDArray[np.float64], width: float) -> NDArray[np.float64]:
    """How much of a signal lies at the first and the prime harmonics of frequencies and not halfway between, up to 1.

    After A. Camacho, J. G. Harris, "A sawtooth waveform inspired pitch estimator for speech and music", JASA 124
    (2008): square roots of amplitudes, weights falling with the root of frequency; their cosines are boxes here.

    Args:
        roots: square roots of amplitudes, one line every `width` Hz from 0 on.
    """
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
