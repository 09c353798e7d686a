"""Energy over time and frequency, for the Passage and the room map, and waveforms for the Time strip."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.breaking_off import may_break_off
from apilado.core.measure.bands import band_centres, band_sums
from apilado.core.measure.stem import StemMeasures
from apilado.core.measure.windows import hann, take_windows
from apilado.core.units import ms_to_samples

ROWS_PER_OCTAVE = 6
COLUMNS_PER_BEAT, FEWEST_COLUMNS, MOST_COLUMNS = 8, 64, 512
LONG_MS, SHORT_MS, TURN_HZ, LOW_TOP_HZ = 128.0, 43.0, 300.0, 800.0
"""Long windows tell low bands apart, short ones tell when; they meet at the turn."""
WINDOWS_AT_ONCE = 128
"""So many stay in the cache."""


@dataclass(frozen=True, eq=False)
class Outline:
    """A waveform's lowest and highest sample in each column."""

    low: NDArray[np.float32]
    high: NDArray[np.float32]


def grid_columns(beats: float) -> int:
    """How many moments of a loop are told apart."""
    return int(min(MOST_COLUMNS, max(FEWEST_COLUMNS, round(beats * COLUMNS_PER_BEAT))))


def energy_grid(audio: Audio, stem: StemMeasures, *, columns: int) -> NDArray[np.float32]:
    """Power per sixth-octave (rows, ascending) and moment of a loop: the mean of both channels, a full-scale sine is 1.

    Args:
        audio: a loop, shape (2, frames).
        stem: what was measured of it; its low end is taken from there.

    Returns:
        Shape (rows, columns); column c is the moment (c + 1/2)/columns of the loop.
    """
    low_end = stem.low
    rate, frames = low_end.rate_hz, audio.shape[1]
    centres = (np.arange(columns) + 0.5) / columns * frames
    # The low end at a low rate: its part of the spectrum, turned back into a short signal.
    kept = min(low_end.left.shape[0], math.ceil(LOW_TOP_HZ / low_end.bin_hz) + 1)
    length = fft.next_fast_len(2 * (kept - 1), real=True)
    low_rate = length * low_end.bin_hz
    share = low_rate / rate
    lows = [fft.irfft(lines[:kept], length) * np.float32(share) for lines in low_end.channels]
    low = sum(_powers(signal, centres * share, LONG_MS, low_rate) for signal in lows)
    high = sum(_powers(channel, centres, SHORT_MS, rate) for channel in audio[: len(lows)])
    upper = band_centres(ROWS_PER_OCTAVE)[:, None] > TURN_HZ
    return np.asarray(np.where(upper, high, low) / len(lows), np.float32)


def _powers(
    signal: NDArray[np.float32], centres: NDArray[np.float64], window_ms: float, rate_hz: float
) -> NDArray[np.float64]:
    """Power per sixth-octave in windows about `centres`, going round the signal's end; shape (rows, windows)."""
    size = fft.next_fast_len(ms_to_samples(window_ms, rate_hz), real=True)
    starts = (centres - size / 2 + size).astype(np.int64) - size
    frequencies, shape = np.arange(size // 2 + 1) * (rate_hz / size), hann(size).astype(np.float32)
    found = np.empty((band_centres(ROWS_PER_OCTAVE).shape[0], starts.shape[0]))
    for first in range(0, starts.shape[0], WINDOWS_AT_ONCE):
        may_break_off()
        some = starts[first : first + WINDOWS_AT_ONCE]
        windows = np.empty((some.shape[0], size), np.float32)
        take_windows(signal, some, shape, windows)
        spectra = fft.rfft(windows, axis=1)
        # Parseval under a Hann window: a full-scale sine sums to 3/32·size².
        powers = (spectra.real**2 + spectra.imag**2) * np.float32(32.0 / (3.0 * size**2))
        found[:, first : first + some.shape[0]] = band_sums(powers, frequencies, ROWS_PER_OCTAVE).T
    return np.maximum(found, 0.0)


def outline(audio: Audio, *, first: int, last: int, columns: int) -> Outline:
    """Lowest and highest sample of the mono sum in each of `columns` equal parts of the frames first … last - 1."""
    first, last = max(0, first), min(audio.shape[1], last)
    if last - first < 1:
        return Outline(np.zeros(columns, np.float32), np.zeros(columns, np.float32))
    mono = (audio[0, first:last] + audio[1, first:last]) / 2.0
    edges = (np.arange(columns) * mono.shape[0]) // columns
    return Outline(np.minimum.reduceat(mono, edges), np.maximum.reduceat(mono, edges))
