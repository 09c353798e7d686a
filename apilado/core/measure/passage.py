"""Energy over time and frequency, for the Passage, and waveforms for the Time strip."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from apilado.core.dsp.audio import Audio
from apilado.core.measure.bands import band_sums
from apilado.core.units import power_to_db

ROWS_PER_OCTAVE = 6
COLUMNS = 96


@dataclass(frozen=True, eq=False)
class Outline:
    """A waveform's lowest and highest sample in each column."""

    low: NDArray[np.float32]
    high: NDArray[np.float32]


def energy_grid(audio: Audio, *, rate_hz: int) -> NDArray[np.float32]:
    """Level in dB per sixth-octave (rows, ascending) and moment (COLUMNS columns) of a loop's mono sum."""
    size = 8192 if rate_hz <= 48000 else 16384
    mono = (audio[0] + audio[1]) / 2.0
    frames = mono.shape[0]
    starts = (np.arange(COLUMNS) + 0.5) * frames / COLUMNS - size / 2
    index = (starts.astype(np.int64)[:, None] + np.arange(size)) % frames
    window = np.hanning(size).astype(np.float32)
    spectra = fft.rfft(mono[index] * window, axis=1)
    # Parseval under a Hann window: a full-scale sine sums to 3/32·size².
    powers = (spectra.real**2 + spectra.imag**2) * (32.0 / (3.0 * size**2))
    frequencies = np.arange(spectra.shape[1]) * (rate_hz / size)
    return np.asarray(power_to_db(band_sums(powers, frequencies, ROWS_PER_OCTAVE).T), np.float32)


def outline(audio: Audio, *, first: int, last: int, columns: int) -> Outline:
    """Lowest and highest sample of the mono sum in each of `columns` equal parts of the frames first … last - 1."""
    first, last = max(0, first), min(audio.shape[1], last)
    if last - first < 1:
        return Outline(np.zeros(columns, np.float32), np.zeros(columns, np.float32))
    mono = (audio[0, first:last] + audio[1, first:last]) / 2.0
    edges = (np.arange(columns) * mono.shape[0]) // columns
    return Outline(np.minimum.reduceat(mono, edges), np.maximum.reduceat(mono, edges))
