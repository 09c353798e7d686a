"""Energy over time and frequency, for the Passage and the room map, and waveforms for the Time strip."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from apilado.core.dsp.audio import Audio
from apilado.core.measure.bands import band_centres, band_sums

ROWS_PER_OCTAVE = 6
COLUMNS_PER_BEAT, FEWEST_COLUMNS, MOST_COLUMNS = 8, 64, 512
LONG_MS, SHORT_MS, TURN_HZ = 128.0, 43.0, 300.0
"""Long windows tell low bands apart, short ones tell when; they meet at the turn."""


@dataclass(frozen=True, eq=False)
class Outline:
    """A waveform's lowest and highest sample in each column."""

    low: NDArray[np.float32]
    high: NDArray[np.float32]


def grid_columns(beats: float) -> int:
    """How many moments of a loop are told apart."""
    return int(min(MOST_COLUMNS, max(FEWEST_COLUMNS, round(beats * COLUMNS_PER_BEAT))))


def energy_grid(audio: Audio, *, rate_hz: int, columns: int) -> NDArray[np.float32]:
    """Power per sixth-octave (rows, ascending) and moment of a loop: the mean of both channels, a full-scale sine is 1.

    Shape (rows, columns); column c is the moment (c + 1/2)/columns of the loop.
    """
    mono = audio[0] is audio[1] or bool(np.array_equal(audio[0], audio[1]))
    channels = audio[:1] if mono else audio
    low = sum(_powers(channel, LONG_MS, rate_hz, columns) for channel in channels)
    high = sum(_powers(channel, SHORT_MS, rate_hz, columns) for channel in channels)
    upper = band_centres(ROWS_PER_OCTAVE)[:, None] > TURN_HZ
    return np.asarray(np.where(upper, high, low) / len(channels), np.float32)


def _powers(channel: NDArray[np.float32], window_ms: float, rate_hz: int, columns: int) -> NDArray[np.float64]:
    size = fft.next_fast_len(round(window_ms * rate_hz / 1000.0), real=True)
    frames = channel.shape[0]
    starts = (np.arange(columns) + 0.5) * frames / columns - size / 2
    index = (starts.astype(np.int64)[:, None] + np.arange(size)) % frames
    spectra = fft.rfft(channel[index] * np.hanning(size).astype(np.float32), axis=1)
    # Parseval under a Hann window: a full-scale sine sums to 3/32·size².
    powers = (spectra.real**2 + spectra.imag**2) * np.float32(32.0 / (3.0 * size**2))
    frequencies = np.arange(spectra.shape[1]) * (rate_hz / size)
    return np.maximum(band_sums(powers, frequencies, ROWS_PER_OCTAVE).T, 0.0)


def outline(audio: Audio, *, first: int, last: int, columns: int) -> Outline:
    """Lowest and highest sample of the mono sum in each of `columns` equal parts of the frames first … last - 1."""
    first, last = max(0, first), min(audio.shape[1], last)
    if last - first < 1:
        return Outline(np.zeros(columns, np.float32), np.zeros(columns, np.float32))
    mono = (audio[0, first:last] + audio[1, first:last]) / 2.0
    edges = (np.arange(columns) * mono.shape[0]) // columns
    return Outline(np.minimum.reduceat(mono, edges), np.maximum.reduceat(mono, edges))
