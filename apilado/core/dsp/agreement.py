"""How a copy of a sound that went its own way agrees best with it: by how much it is moved, whether turned over."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.breaking_off import may_break_off
from apilado.core.units import ms_to_samples

MOST_MOVED_MS = 5.0
AS_GOOD = 0.99
"""Where leaving it as it is agrees so nearly as well, it is left."""
LEAST_LIKE = 0.1
"""What agrees less than that with the sound, as a correlation, has nothing in common with it that could be aligned."""
BLOCK = 1 << 15


@dataclass(frozen=True)
class Fit:
    """What is done to a copy so that it agrees."""

    frames: int = 0
    """By how much it is moved; below nothing it comes earlier."""
    inverted: bool = False


def correlations(sound: NDArray[np.float32], copy: NDArray[np.float32], most: int) -> NDArray[np.float64]:
    """Σ sound[n]·copy[n - d] over a loop, for moves d from -most to most; shape (2·most + 1,)."""
    frames, total = sound.shape[0], np.zeros(2 * most + 1)
    size = fft.next_fast_len(BLOCK + 4 * most, real=True)
    places = np.arange(-most, BLOCK + most)
    for begin in range(0, frames, BLOCK):
        may_break_off()
        length = min(BLOCK, frames - begin)
        around = np.take(copy, (begin + places[: length + 2 * most]) % frames)
        spectra = fft.rfft(sound[begin : begin + length], size), fft.rfft(around, size)
        # Of Σ sound[n]·around[n + k] the place k = most - d is the move d.
        found = fft.irfft(np.conj(spectra[0]) * spectra[1], size)[: 2 * most + 1]
        total += found[::-1]
    return total


def best_fit(sound: Audio, copy: Audio, rate_hz: int) -> Fit:
    """The fit of a copy to a sound over a loop."""
    most = ms_to_samples(MOST_MOVED_MS, rate_hz)
    one, other = (np.asarray(each.mean(axis=0), np.float32) for each in (sound, copy))
    energy = float(np.sqrt(np.sum(np.square(one, dtype=np.float64)) * np.sum(np.square(other, dtype=np.float64))))
    found = correlations(one, other, most)
    place = int(np.argmax(np.abs(found)))
    if energy <= 0.0 or abs(found[place]) < LEAST_LIKE * energy:
        return Fit()
    if abs(found[most]) >= AS_GOOD * abs(found[place]):
        place = most
    return Fit(place - most, bool(found[place] < 0.0))
