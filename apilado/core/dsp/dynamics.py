"""Gain reduction: the static curve, the smoothing, the keyed compressor and the limiter.

After D. Giannoulis, M. Massberg, J. D. Reiss, "Digital Dynamic Range Compressor Design – A Tutorial and Analysis",
JAES 60/6, 2012: a feed-forward compressor in the decibel domain with a quadratic knee (their eq. 4) and a smooth
decoupled peak detector (eq. 17), here with a hold between attack and release.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.breaking_off import pieces
from apilado.core.dsp.curves import Curve, Value, at_rest, mapped, per_frame, rows
from apilado.core.dsp.kernels import kernel
from apilado.core.dsp.lead_in import wrapped_tail, wrapped_value
from apilado.core.dsp.logarithms import DB_PER_DOUBLING, powers_of_two, to_decibels
from apilado.core.units import db_to_gain, ms_to_samples

FORGOTTEN = 8.0
"""Time constants after which a level counts as forgotten where a stretch is rendered: -70 dB are left."""
BLOCK = 512
"""Frames that are worked on at a time."""
SETTLED_CONSTANTS = 12.0
"""Time constants after which a memory counts as gone: 6 millionths are left."""


def smoothing_coefficient(time_ms: float, rate_hz: int) -> float:
    """α = e^(-1/(τ·rate)): after τ a step is done to 1 - 1/e. 0 for a time of zero."""
    return math.exp(-1000.0 / (time_ms * rate_hz)) if time_ms > 0.0 else 0.0


def static_reduction(
    levels_db: NDArray[np.float64], threshold_db: float, ratio: float, knee_db: float
) -> NDArray[np.float64]:
    """What a compressor takes from steady levels, in dB: eq. 4 of the source, with its quadratic knee."""
    over, half, slope = levels_db - threshold_db, knee_db / 2.0, 1.0 - 1.0 / ratio
    bent = slope * np.square(np.clip(over + half, 0.0, None)) / max(2.0 * knee_db, 1e-9)
    return np.asarray(np.where(over >= half, slope * over, bent))


@kernel
def _levels(key: Any, first: int, levels: Any) -> None:
    """The greatest amplitude of any channel at so many frames from the first on."""
    for c in range(key.shape[0]):
        heard = key[c, first : first + levels.shape[0]]
        for i in range(levels.shape[0]):
            size = abs(np.float64(heard[i]))
            levels[i] = size if c == 0 else max(levels[i], size)


@kernel
def _between_knots(at: Any, values: Any, first: int, frames: int, out: Any) -> None:
    """A value at each frame from the first on, straight from knot to knot; after the last knot it stays."""
    for k in range(at.shape[0]):
        there = k + 1 < at.shape[0]
        begin, end = at[k] - first, (at[k + 1] if there else frames) - first
        step = (values[k + 1] - values[k]) / max(1, end - begin) if there else 0.0
        low, high = max(0, begin), min(end, out.shape[0])
        part, gone = out[low:high], low - begin
        for i in range(part.shape[0]):
            part[i] = values[k] + step * np.float64(np.int32(gone + i))
        if end >= out.shape[0]:
            return


@kernel
def _reduction_kernel(
    key: Any,
    at: Any,
    rows: Any,
    knee_db: float,
    attack: float,
    release: float,
    hold: int,
    averaging: float,
    state: Any,
    out: Any,
    begin: int,
    end: int,
) -> None:
    """Gain reduction from one frame to before another.

    `state` is its peak, its smoothed peak, what it still holds, its mean square. What does not depend on the frame
    before is done for many frames at a time, what does comes after it.
    """
    peak, smooth, held, square = state[0], state[1], state[2], state[3]
    half, frames = 0.5 * knee_db, key.shape[1]
    levels, wanted, rests = np.empty(BLOCK), np.empty(BLOCK), np.empty(BLOCK, np.int64)
    thresholds, slopes, ranges = np.empty(BLOCK), np.empty(BLOCK), np.empty(BLOCK)
    begun = 0
    threshold_moves = np.min(rows[:, 0]) < np.max(rows[:, 0])
    slope_moves, range_moves = np.min(rows[:, 1]) < np.max(rows[:, 1]), np.min(rows[:, 2]) < np.max(rows[:, 2])
    for first in range(begin, end, BLOCK):
        count = min(BLOCK, end - first)
        while begun + 1 < at.shape[0] and at[begun + 1] <= first:
            begun += 1
        if first == begin or threshold_moves:
            _between_knots(at[begun:], rows[begun:, 0], first, frames, thresholds)
        if first == begin or slope_moves:
            _between_knots(at[begun:], rows[begun:, 1], first, frames, slopes)
        if first == begin or range_moves:
            _between_knots(at[begun:], rows[begun:, 2], first, frames, ranges)
        lowest = thresholds[0]
        for i in range(count):
            lowest = min(lowest, thresholds[i])
        quiet = 10.0 ** ((lowest - half) / 20.0)  # below this amplitude the curve is silent: no logarithm needed
        _levels(key, first, levels[:count])
        if averaging > 0.0:
            for i in range(count):
                square = averaging * square + (1.0 - averaging) * levels[i] * levels[i]
                if square < 1e-30:
                    square = 0.0
                levels[i] = np.sqrt(square)
        loudest = 0.0
        for i in range(count):
            loudest = max(loudest, levels[i])
        wanted[:] = 0.0
        if loudest > quiet:
            for i in range(count):
                levels[i] = max(levels[i], quiet)
            to_decibels(levels[:count], rests, wanted)
            for i in range(count):
                over = wanted[i] - thresholds[i]
                inner = max(0.0, over + half)
                bent = slopes[i] * inner * inner / (2.0 * knee_db) if half > 0.0 else 0.0
                wanted[i] = min(slopes[i] * over if over >= half else bent, ranges[i])
        for i in range(count):
            if wanted[i] >= peak:
                peak = wanted[i]
                held = hold
            elif held > 0:
                held -= 1
            else:
                peak = max(wanted[i], release * peak + (1.0 - release) * wanted[i])
                if peak < 1e-9:
                    peak = 0.0
            smooth = attack * smooth + (1.0 - attack) * peak
            if smooth < 1e-9:
                smooth = 0.0
            out[first + i] = smooth
    state[0], state[1], state[2], state[3] = peak, smooth, held, square


@dataclass(frozen=True)
class Detector:
    """From a key signal to gain reduction: static curve, then attack, hold and release."""

    threshold_db: Value
    ratio: Value
    knee_db: float
    attack_ms: float
    release_ms: float
    hold_ms: float = 0.0
    range_db: Value = 120.0
    """The reduction never exceeds it."""
    rms_ms: float = 0.0
    """Time constant of the mean square that is judged; 0 judges every sample."""

    def settle_frames(self, rate_hz: int) -> int:
        """Frames after which all memory has settled to 6 millionths: twelve time constants."""
        constants = self.attack_ms + self.release_ms + self.rms_ms
        return math.ceil((SETTLED_CONSTANTS * constants + self.hold_ms + 100.0) * rate_hz / 1000.0)

    def in_tail(self, frames: int) -> Detector:
        """What it is in the last frames of a loop."""
        return replace(
            self,
            threshold_db=wrapped_value(self.threshold_db, frames),
            ratio=wrapped_value(self.ratio, frames),
            range_db=wrapped_value(self.range_db, frames),
        )


def gain_reduction(
    key: Audio, detector: Detector, *, rate_hz: int, state: NDArray[np.float64] | None = None
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """Gain reduction in dB (0 and up) that a key signal asks for, frame by frame.

    Args:
        key: shape (channels, frames); the louder channel counts.
        state: shape (4,) as returned by the run before; at rest if None.

    Returns:
        The reduction, shape (frames,), and the state after it.
    """
    state = np.zeros(4) if state is None else state.copy()
    out = np.empty(key.shape[1], np.float32)
    slope = mapped(detector.ratio, lambda ratio: 1.0 - 1.0 / ratio)
    how = (
        *rows([at_rest(each) for each in (detector.threshold_db, slope, detector.range_db)]),
        detector.knee_db,
        smoothing_coefficient(detector.attack_ms, rate_hz),
        smoothing_coefficient(detector.release_ms, rate_hz),
        ms_to_samples(detector.hold_ms, rate_hz),
        smoothing_coefficient(detector.rms_ms, rate_hz),
    )
    for begin, end in pieces(key.shape[1]):
        _reduction_kernel(key, *how, state, out, begin, end)
    return out, state


def whole_reduction(
    key: Audio, detector: Detector, *, rate_hz: int, looped: bool, held_db: float = 0.0
) -> NDArray[np.float32]:
    """`gain_reduction` over a whole render: from rest, or for a loop from where the round before has left it.

    Args:
        held_db: a reduction with which it begins, where it is no loop.
    """
    state = np.array([held_db, held_db, 0.0, 0.0]) if held_db else None
    if looped:
        ahead = detector.settle_frames(rate_hz)
        _, state = gain_reduction(wrapped_tail(key, ahead), detector.in_tail(ahead), rate_hz=rate_hz)
    return gain_reduction(key, detector, rate_hz=rate_hz, state=state)[0]


@kernel
def _reduced_kernel(audio: Any, reduction_db: Any, amount: Any, out: Any, begin: int, end: int) -> None:
    scale = -amount / DB_PER_DOUBLING
    power_of, gain_of, bits_of = np.empty(BLOCK), np.empty(BLOCK), np.empty(BLOCK, np.int64)
    for first in range(begin, end, BLOCK):
        count = min(BLOCK, end - first)
        asked, powers, gains = reduction_db[first : first + count], power_of[:count], gain_of[:count]
        most = np.float32(0.0)
        for i in range(count):
            powers[i] = scale * np.float64(asked[i])
            most = max(most, abs(asked[i]))
        if most == 0.0:
            out[:, first : first + count] = audio[:, first : first + count]
            continue
        powers_of_two(powers, bits_of[:count], gains)
        for c in range(audio.shape[0]):
            sound, heard = audio[c, first : first + count], out[c, first : first + count]
            for i in range(count):
                heard[i] = sound[i] * np.float32(gains[i])


def reduced(audio: Audio, reduction_db: NDArray[np.float32], amount: Value = 1.0) -> Audio:
    """The audio turned down by `amount` times the reduction; shape (channels, frames)."""
    out = np.empty_like(audio)
    if isinstance(amount, Curve):
        reduction_db, amount = reduction_db * amount.rounded(), 1.0
    for begin, end in pieces(audio.shape[1]):
        _reduced_kernel(audio, reduction_db, float(amount), out, begin, end)
    return out


LIMITER_LOOKAHEAD_MS = 2.0


@kernel
def _limiter_kernel(peaks: Any, ceiling: float, window: int, release: float, begun: float, gains: Any) -> None:
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
    held = begun
    total = float(window + 1) * begun
    for n in range(frames):
        held = min(ahead[n], 1.0 - (1.0 - held) * release)
        ahead[n] = held
        total += held
        total -= ahead[n - window - 1] if n > window else begun
        gains[n] = min(wanted[n], total / (window + 1))


def limiter_gains(
    audio: Audio, *, ceiling_db: Value, release_ms: float, rate_hz: int, looped: bool, held_db: float = 0.0
) -> NDArray[np.float32] | None:
    """Gain per frame of a look-ahead peak limiter, shape (frames,), or None where nothing exceeds the ceiling.

    The gain averages over the 2 ms before a peak and recovers exponentially with `release_ms`.

    Args:
        held_db: a reduction with which it begins, where it is no loop.
    """
    peaks = np.max(np.abs(audio), axis=0)
    if isinstance(ceiling_db, Curve):  # what lies under a ceiling that moves lies under 1 once it is divided by it
        peaks = peaks / np.asarray(per_frame(mapped(ceiling_db, db_to_gain)), np.float32)
        ceiling_db = 0.0
    ceiling = 10.0 ** (ceiling_db / 20.0)
    if float(np.max(peaks, initial=0.0)) <= ceiling and not held_db:
        return None
    frames = peaks.shape[0]
    window = max(1, math.floor(LIMITER_LOOKAHEAD_MS * rate_hz / 1000.0))
    # A loop's lead-in lasts until the release has forgotten where it began, however many rounds that takes.
    lead = math.ceil(SETTLED_CONSTANTS * release_ms * rate_hz / 1000.0) + window if looped else 0
    tail = min(frames, window) if looped else 0
    run = np.concatenate([wrapped_tail(peaks[None], lead)[0], peaks, peaks[:tail]]).astype(np.float64)
    gains = np.empty(run.shape[0], np.float32)
    begun = 10.0 ** (-held_db / 20.0)
    _limiter_kernel(run, ceiling, window, smoothing_coefficient(release_ms, rate_hz), begun, gains)
    return gains[lead : lead + frames]


def limiter_reduction(
    audio: Audio, *, ceiling_db: Value, release_ms: float, rate_hz: int, looped: bool, held_db: float = 0.0
) -> NDArray[np.float32]:
    """The limiter's gain reduction in dB, shape (frames,)."""
    how: dict[str, Any] = {"ceiling_db": ceiling_db, "release_ms": release_ms, "held_db": held_db}
    gains = limiter_gains(audio, **how, rate_hz=rate_hz, looped=looped)
    if gains is None:
        return np.zeros(audio.shape[1], np.float32)
    return np.asarray(-20.0 * np.log10(np.maximum(gains, 1e-6)), np.float32)
