"""Polyphase oversampling for nonlinear stages: linear phase, latency removed, so a dry/wet blend does not comb.

The prototype is a Kaiser-windowed sinc, flat to 0.41 and closed from 0.5 of the base rate (-90 dB), the same up
and down: whatever a nonlinearity throws beyond half the base rate is removed before it can fold back.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray
from scipy.signal import firwin, kaiser_beta

from apilado.core.dsp.audio import Audio, as_audio, wrapped_tail

PASS_EDGE, STOP_EDGE, STOP_DB = 0.41, 0.50, 90.0
TAPS_PER_PHASE = 64
DELAY = TAPS_PER_PHASE - 1
_BLOCK = 2048


@lru_cache(maxsize=4)
def phase_filters(factor: int) -> NDArray[np.float32]:
    """The prototype cut into phases, shape (factor, TAPS_PER_PHASE), gain 1 in every phase at 0 Hz."""
    length = factor * DELAY + 1  # up and down together then delay by exactly DELAY frames of the base rate
    taps = firwin(length, (PASS_EDGE + STOP_EDGE) / factor, window=("kaiser", kaiser_beta(STOP_DB)))
    padded = np.zeros(factor * TAPS_PER_PHASE)
    padded[:length] = taps * factor
    phases = padded.reshape(TAPS_PER_PHASE, factor).T
    return np.ascontiguousarray(phases, dtype=np.float32)


@njit(cache=True, nogil=True, fastmath=True)
def _add_filtered(x: Any, start: int, taps: Any, out: Any) -> None:
    """out[n] += Σ taps[k] · x[start + n + k]; the number of taps is a multiple of 8."""
    frames = out.shape[0]
    for block in range(0, frames, _BLOCK):
        end = min(frames, block + _BLOCK)
        for k in range(0, taps.shape[0], 8):
            t0, t1, t2, t3 = taps[k], taps[k + 1], taps[k + 2], taps[k + 3]
            t4, t5, t6, t7 = taps[k + 4], taps[k + 5], taps[k + 6], taps[k + 7]
            # Slices indexed from 0 let the compiler drop the checks for negative indices and vectorise.
            near = x[start + k + block : start + k + end + 7]
            sums = out[block:end]
            for n in range(sums.shape[0]):
                sums[n] += (
                    t0 * near[n]
                    + t1 * near[n + 1]
                    + t2 * near[n + 2]
                    + t3 * near[n + 3]
                    + t4 * near[n + 4]
                    + t5 * near[n + 5]
                    + t6 * near[n + 6]
                    + t7 * near[n + 7]
                )


@njit(cache=True, nogil=True)
def _up_kernel(x: Any, filters: Any, out: Any) -> None:
    # Phase p of the oversampled signal: taps reversed, since the convolution runs backwards over x.
    for p in range(filters.shape[0]):
        _add_filtered(x, 0, filters[p, ::-1].copy(), out[p])


@njit(cache=True, nogil=True)
def _down_kernel(shaped: Any, filters: Any, out: Any) -> None:
    factor = filters.shape[0]
    scaled = filters / np.float32(factor)
    for p in range(factor):
        # Sample n·factor of the convolution takes phase p of the filter from phase -p of the signal.
        source = (factor - p) % factor
        _add_filtered(shaped[source], 1 if p == 0 else 0, scaled[p, ::-1].copy(), out)


def oversampled(audio: Audio, factor: int, shaper: Callable[[Audio], Audio], *, looped: bool) -> Audio:
    """Runs a memoryless `shaper` at `factor` times the rate.

    Args:
        audio: shape (channels, frames).
        factor: 1, 2, 4 or 8; at 1 the shaper runs as it is.
        shaper: maps an array of any shape to one of the same shape, sample by sample.
        looped: the signal continues round the loop; otherwise it is silent before and after.
    """
    audio = as_audio(audio)
    if factor == 1:
        return as_audio(shaper(audio))
    if factor not in (2, 4, 8):
        raise ValueError(f"oversampling is 1, 2, 4 or 8 times, not {factor}")
    filters = phase_filters(factor)
    frames = audio.shape[1]
    # Up and down together delay by DELAY base frames, taken back here by giving that much of what follows.
    before, after = TAPS_PER_PHASE, DELAY
    if looped:
        head, tail = wrapped_tail(audio, before), audio[:, np.arange(after) % frames]
    else:
        head = np.zeros((audio.shape[0], before), np.float32)
        tail = np.zeros((audio.shape[0], after), np.float32)
    padded = np.concatenate([head, audio, tail], axis=1)
    out = np.zeros_like(audio)
    for channel in range(audio.shape[0]):
        up = np.zeros((factor, padded.shape[1] - DELAY), np.float32)
        _up_kernel(padded[channel], filters, up)
        _down_kernel(as_planes(shaper(up)), filters, out[channel])
    return out


def upsampled(signal: NDArray[np.float32], factor: int) -> NDArray[np.float32]:
    """The signal, shape (frames,), at `factor` times the rate, silent outside; planes, shape (factor, frames + 63)."""
    padded = np.pad(np.ascontiguousarray(signal, np.float32), DELAY)
    up = np.zeros((factor, padded.shape[0] - DELAY), np.float32)
    _up_kernel(padded, phase_filters(factor), up)
    return up


def as_planes(shaped: NDArray[np.floating]) -> NDArray[np.float32]:
    """Oversampled planes as contiguous float32."""
    return np.ascontiguousarray(shaped, dtype=np.float32)
