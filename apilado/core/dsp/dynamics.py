"""Gain reduction: the static curve, the smoothing, the keyed compressor and the limiter.

After D. Giannoulis, M. Massberg, J. D. Reiss, "Digital Dynamic Range Compressor Design – A Tutorial and Analysis",
JAES 60/6, 2012: a feed-forward compressor in the decibel domain with a quadratic knee (their eq. 4) and a smooth
decoupled peak detector (eq. 17), here with a hold between attack and release.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, wrapped_tail


def static_curve(
    level_db: NDArray[np.float64], *, threshold_db: float, ratio: float, knee_db: float
) -> NDArray[np.float64]:
    """Output level of a compressor for a steady input level; same shape."""
    over = level_db - threshold_db
    slope = 1.0 / ratio - 1.0
    knee = np.where(
        2.0 * np.abs(over) <= knee_db,
        slope * (over + knee_db / 2.0) ** 2 / (2.0 * max(knee_db, 1e-9)),
        np.where(over > 0.0, slope * over, 0.0),
    )
    return level_db + knee


def smoothing_coefficient(time_ms: float, rate_hz: int) -> float:
    """α = e^(-1/(τ·rate)): after τ a step is done to 1 - 1/e. 0 for a time of zero."""
    return math.exp(-1000.0 / (time_ms * rate_hz)) if time_ms > 0.0 else 0.0


@njit(cache=True, nogil=True, fastmath={"contract"})
def _reduction_kernel(
    key: Any,
    threshold_db: float,
    ratio: float,
    knee_db: float,
    range_db: float,
    attack: float,
    release: float,
    hold: int,
    state: Any,
    out: Any,
) -> None:
    peak, smooth, held = state[0], state[1], state[2]
    slope = 1.0 - 1.0 / ratio
    half = 0.5 * knee_db
    # Below this amplitude the curve is silent: no logarithm needed.
    quiet = 10.0 ** ((threshold_db - half) / 20.0)
    for n in range(key.shape[1]):
        level = abs(np.float64(key[0, n]))
        for c in range(1, key.shape[0]):
            level = max(level, abs(np.float64(key[c, n])))
        wanted = 0.0
        if level > quiet:
            over = 20.0 * np.log10(level) - threshold_db
            if over < half:
                wanted = slope * (over + half) * (over + half) / (2.0 * knee_db)
            else:
                wanted = slope * over
            wanted = min(wanted, range_db)
        if wanted >= peak:
            peak = wanted
            held = hold
        elif held > 0:
            held -= 1
        else:
            peak = max(wanted, release * peak + (1.0 - release) * wanted)
            if peak < 1e-9:
                peak = 0.0
        smooth = attack * smooth + (1.0 - attack) * peak
        if smooth < 1e-9:
            smooth = 0.0
        out[n] = smooth
    state[0], state[1], state[2] = peak, smooth, held


def gain_reduction(
    key: Audio,
    *,
    threshold_db: float,
    ratio: float,
    knee_db: float,
    attack_ms: float,
    hold_ms: float,
    release_ms: float,
    range_db: float,
    rate_hz: int,
    state: NDArray[np.float64] | None = None,
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """Gain reduction in dB (0 and up) that a key signal asks for, frame by frame.

    Args:
        key: shape (channels, frames); the louder channel counts.
        range_db: the reduction never exceeds it.
        state: shape (3,) as returned by the run before; at rest if None.

    Returns:
        The reduction, shape (frames,), and the state after it.
    """
    state = np.zeros(3) if state is None else state.copy()
    out = np.empty(key.shape[1], np.float32)
    _reduction_kernel(
        key,
        threshold_db,
        ratio,
        knee_db,
        range_db,
        smoothing_coefficient(attack_ms, rate_hz),
        smoothing_coefficient(release_ms, rate_hz),
        math.floor(hold_ms * rate_hz / 1000.0 + 0.5),
        state,
        out,
    )
    return out, state


def whole_reduction(
    key: Audio,
    *,
    threshold_db: float,
    ratio: float,
    knee_db: float,
    attack_ms: float,
    hold_ms: float,
    release_ms: float,
    range_db: float,
    rate_hz: int,
    looped: bool,
) -> NDArray[np.float32]:
    """`gain_reduction` over a whole render: from rest, or for a loop from where the round before has left it."""

    def run(part: Audio, state: NDArray[np.float64] | None) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
        return gain_reduction(
            part,
            threshold_db=threshold_db,
            ratio=ratio,
            knee_db=knee_db,
            attack_ms=attack_ms,
            hold_ms=hold_ms,
            release_ms=release_ms,
            range_db=range_db,
            rate_hz=rate_hz,
            state=state,
        )

    if not looped:
        return run(key, None)[0]
    # Twelve time constants of attack and release settle all memory to 6 millionths.
    lead = math.ceil((12.0 * (attack_ms + release_ms) + hold_ms + 100.0) * rate_hz / 1000.0)
    return run(key, run(wrapped_tail(key, lead), None)[1])[0]


@njit(cache=True, nogil=True, fastmath={"contract"})
def _reduced_kernel(audio: Any, reduction_db: Any, amount: Any, out: Any) -> None:
    scale = np.float32(-amount * 0.11512925464970229)  # ln(10)/20
    for n in range(audio.shape[1]):
        r = reduction_db[n]
        if r == 0.0:
            for c in range(audio.shape[0]):
                out[c, n] = audio[c, n]
        else:
            gain = np.exp(scale * r)
            for c in range(audio.shape[0]):
                out[c, n] = audio[c, n] * gain


def reduced(audio: Audio, reduction_db: NDArray[np.float32], amount: float = 1.0) -> Audio:
    """The audio turned down by `amount` times the reduction; shape (channels, frames)."""
    out = np.empty_like(audio)
    _reduced_kernel(audio, reduction_db, float(amount), out)
    return out


LIMITER_LOOKAHEAD_MS = 2.0


@njit(cache=True, nogil=True)
def _limiter_kernel(peaks: Any, ceiling: float, window: int, release: float, gains: Any) -> None:
    """gains[n] ≤ ceiling/peaks[n] for every frame; falls linearly-averaged over `window` frames ahead."""
    frames = peaks.shape[0]
    # Smallest gain wanted within the window ahead, by a monotonic queue run from the end.
    queue = np.empty(frames, np.int64)
    wanted = np.empty(frames)
    ahead = np.empty(frames)
    for n in range(frames):
        wanted[n] = min(1.0, ceiling / peaks[n]) if peaks[n] > ceiling else 1.0
    head, tail = 0, 0
    for n in range(frames - 1, -1, -1):
        while tail > head and wanted[queue[tail - 1]] >= wanted[n]:
            tail -= 1
        queue[tail] = n
        tail += 1
        while queue[head] > n + window:
            head += 1
        ahead[n] = wanted[queue[head]]
    # Held minimum, released exponentially, then averaged over the window: the peak's own gain is met in time.
    held = 1.0
    total = float(window + 1)
    for n in range(frames):
        held = min(ahead[n], 1.0 - (1.0 - held) * release)
        ahead[n] = held
        total += held
        total -= ahead[n - window - 1] if n > window else 1.0
        gains[n] = min(wanted[n], total / (window + 1))


def limiter_gains(
    audio: Audio, *, ceiling_db: float, release_ms: float, rate_hz: int, looped: bool
) -> NDArray[np.float32] | None:
    """Gain per frame of a look-ahead peak limiter, shape (frames,), or None where nothing exceeds the ceiling.

    The gain averages over the 2 ms before a peak and recovers exponentially with `release_ms`.
    """
    ceiling = 10.0 ** (ceiling_db / 20.0)
    peaks = np.max(np.abs(audio), axis=0)
    if float(np.max(peaks, initial=0.0)) <= ceiling:
        return None
    frames = peaks.shape[0]
    window = max(1, math.floor(LIMITER_LOOKAHEAD_MS * rate_hz / 1000.0))
    lead = min(frames, math.ceil(8.0 * release_ms * rate_hz / 1000.0) + window) if looped else 0
    tail = min(frames, window) if looped else 0
    run = np.concatenate([peaks[frames - lead :], peaks, peaks[:tail]]).astype(np.float64)
    gains = np.empty(run.shape[0], np.float32)
    _limiter_kernel(run, ceiling, window, smoothing_coefficient(release_ms, rate_hz), gains)
    return gains[lead : lead + frames]
