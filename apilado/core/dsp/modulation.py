"""Waves whose phase other waves push: frequency modulation, as phase modulation with an index in radians.

A carrier is A(t)·w(φ + Σ I(t)·m(t)/2π), φ in cycles, as in J. Chowning, "The Synthesis of Complex Audio Spectra by
Means of Frequency Modulation", JAES 21/7, 1973: sin(αt + I·sin βt). Feedback pushes a wave by the mean of its own last
two samples. It is run at a multiple of the rate and brought down again; a wave has no more harmonics than stay under
half of that at its greatest instantaneous frequency.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any

import numpy as np
import soxr
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.cycles import LONGEST_TABLE
from apilado.core.dsp.kernels import kernel
from apilado.core.dsp.oscillators import BLOCK, add_between, add_raised, find_places, sides_of

SINE_FACTOR, SMOOTH_FACTOR, STEEP_FACTOR = 2, 4, 8
"""How many times the rate: where there are sines alone that do not go far, where modulators are smooth, and where they
jump."""
NEAR_SHARE = 0.25
"""Of the rate: sines that go no further, at their greatest instantaneous frequency, are not far."""
NOISE_RMS, NOISE_LOWEST_HZ, NOISE_MIDDLE_HZ = 0.25, 20.0, 1000.0
"""Of noise: white at 48 kHz has this level; below the lowest frequency a slope goes on level; at the middle one all
slopes have the same density."""


def fitting_harmonics(wave_hz: float, greatest_hz: float, rate_hz: int, factor: int) -> int:
    """How many harmonics of a wave are played: audible ones, that stay under half of the rate at which it is run."""
    audible, fits = 0.499 * rate_hz / wave_hz, 0.499 * factor * rate_hz / greatest_hz
    return max(1, min(LONGEST_TABLE // 8, int(min(audible, fits))))


@kernel
def _pushed_kernel(
    tables: Any,
    state: Any,
    first: int,
    end: int,
    steps: Any,
    pushes: Any,
    back: Any,
    left: Any,
    right: Any,
    gain: Any,
    out: Any,
) -> None:
    """Runs a wave that pushes itself over some frames, from one table to the next.

    Args:
        state: its phase and its last two samples.
    """
    size = tables.shape[1] - 1
    stereo, walking = out.shape[0] == 2, tables.shape[0] > 1
    moving, pushed, feeding = steps.shape[0] > 1, pushes.shape[0] > 1, back.shape[0] > 1
    p, last, before = state[0], state[1], state[2]
    for i in range(first, end):
        q = p
        q += back[i if feeding else 0] * 0.5 * (last + before)
        if pushed:
            q += pushes[i]
        q = (q - np.floor(q)) * size
        k = np.int64(q)
        v = tables[0, k] + (q - k) * (tables[0, k + 1] - tables[0, k])
        if walking:
            w = tables[1, k] + (q - k) * (tables[1, k + 1] - tables[1, k])
            v += (w - v) * (i - first) / (end - first)
        before = last
        last = v
        heard = v * gain[i]
        out[0, i] += left * heard
        if stereo:
            out[1, i] += right * heard
        p += steps[i if moving else 0]
        p -= np.floor(p)
    state[0], state[1], state[2] = p, last, before


@kernel
def _straight_kernel(
    tables: Any,
    phase: float,
    first: int,
    end: int,
    steps: Any,
    pushes: Any,
    left: Any,
    right: Any,
    gain: Any,
    out: Any,
) -> float:
    """As `_pushed_kernel`, of a wave that does not push itself: so no frame waits for the one before; the phase at the
    end."""
    flat, stride, size = tables.reshape(-1), np.uint32(tables.shape[1]), np.float64(tables.shape[1] - 1)
    moving, pushed, walking = steps.shape[0] > 1, pushes.shape[0] > 1, tables.shape[0] > 1
    cycles, on_left, on_right = np.empty(BLOCK), np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float32)
    at, ways, shares = np.empty(BLOCK, np.uint32), np.empty(BLOCK, np.float32), np.zeros(BLOCK, np.float32)
    other = stride if walking else np.uint32(0)
    for begin in range(first, end, BLOCK):
        count = min(BLOCK, end - begin)
        if moving:
            for i in range(count):
                cycles[i] = phase
                phase += steps[begin + i]
        else:
            for i in range(count):
                cycles[i] = phase + steps[0] * np.float64(np.int32(i))
            phase += steps[0] * count
        phase -= np.floor(phase)
        if pushed:
            push = pushes[begin : begin + count]
            for i in range(count):
                cycles[i] += push[i]
        if walking:
            for i in range(count):
                shares[i] = np.float32(np.int32(begin - first + i)) / np.float32(end - first)
        find_places(cycles, size, at[:count], ways)
        on_left[:], on_right[:] = 0.0, 0.0
        add_between(flat, other, at[:count], ways, shares, left, right, on_left, on_right)
        add_raised(on_left[:count], gain[begin : begin + count], out[0, begin : begin + count])
        if out.shape[0] == 2:
            add_raised(on_right[:count], gain[begin : begin + count], out[1, begin : begin + count])
    return phase


def add_pushed(
    out: Audio,
    pieces: Iterable[tuple[int, int, NDArray[np.float32]]],
    *,
    phase: float,
    steps: NDArray[np.float64],
    pushes: NDArray[np.float32],
    feedback: NDArray[np.float64],
    pan: float,
    gain: NDArray[np.float32],
) -> None:
    """Adds a wave whose phase is pushed to `out`, in place.

    Args:
        out: shape (1 or 2, frames).
        pieces: (first frame, end, its tables) from start to end: one table, or two that it goes over between.
        steps: cycles per frame of it, one or one each.
        pushes: cycles by which its phase is pushed at each frame; a single one is none.
        feedback: cycles by which it pushes itself at its peak, one or one each.
        gain: per frame, shape (frames,).
    """
    sides, state = sides_of(out.shape[0], pan), np.array([float(phase), 0.0, 0.0])
    if not np.any(feedback):
        for first, end, tables in pieces:
            state[0] = _straight_kernel(tables, state[0], first, end, steps, pushes, *sides, gain, out)
        return
    for first, end, tables in pieces:
        _pushed_kernel(tables, state, first, end, steps, pushes, feedback, *sides, gain, out)


@kernel
def _between_frames(values: Any, factor: int) -> Any:
    """So many values for each, straight from one to the next; the last stays."""
    frames = values.shape[0]
    out = np.empty(frames * factor)
    for i in range(frames):
        here = values[i]
        step = (values[i + 1] - here) / factor if i + 1 < frames else 0.0
        for k in range(factor):
            out[i * factor + k] = here + k * step
    return out


def at_factor(values: float | NDArray[Any], frames: int, factor: int) -> NDArray[np.float64]:
    """A number as it is, shape (1,); values of each frame, straight between them, at a multiple of the rate."""
    if not isinstance(values, np.ndarray):
        return np.array([float(values)])
    return np.asarray(_between_frames(np.asarray(values, np.float64), factor))


def brought_down(high: Audio, rate_hz: int, factor: int) -> Audio:
    """What was run at a multiple of the rate, at the rate (soxr, very high quality)."""
    frames = high.shape[1] // factor
    low = soxr.resample(high.T, factor * rate_hz, rate_hz, quality="VHQ").T[:, :frames]
    return np.ascontiguousarray(np.pad(low, ((0, 0), (0, frames - low.shape[1]))), np.float32)


def noise(
    frames: int, slope_db: float, rate_hz: int, generator: np.random.Generator, *, channels: int, spread: float
) -> Audio:
    """Noise whose power falls by so many decibels per octave; both sides alike, or apart by `spread`.

    Its density does not depend on the rate. Shape (channels, frames).
    """
    count = 2 if channels == 2 and spread > 0.0 else 1
    size = 1 << max(4, math.ceil(math.log2(max(frames, 1))))
    white = generator.standard_normal((count, size)) * NOISE_RMS * math.sqrt(rate_hz / 48000.0)
    if slope_db:
        hertz = np.maximum(np.fft.rfftfreq(size, 1.0 / rate_hz), NOISE_LOWEST_HZ)
        gains = (hertz / NOISE_MIDDLE_HZ) ** (slope_db / (20.0 * math.log10(2.0)))
        white = np.fft.irfft(np.fft.rfft(white) * gains, size)
    white = white[:, :frames]
    if count == 2:
        middle, side = white[0], spread * white[1]
        white = np.stack([middle + side, middle - side]) / math.sqrt(1.0 + spread**2)
    return np.broadcast_to(white, (channels, frames)).astype(np.float32)
