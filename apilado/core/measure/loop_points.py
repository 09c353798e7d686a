"""Where a held sound can go round: two places at which its wave is the most alike."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.designs import convolution

STARTS = 8
"""So many places are tried as the beginning of a loop."""
LEAST_LOOP_S, LEAST_CYCLES = 0.2, 8.0
LEAST_WINDOW_S, WINDOW_CYCLES = 0.02, 3.0
WORST_MISMATCH = 0.1
"""Power of the difference over that of both: what is less alike cannot go round."""
WORST_FALL_DB = 2.0
"""A sound that falls by more from the beginning of its loop to the end does not last."""
SILENT_POWER = 1e-9


@dataclass(frozen=True)
class LoopPoints:
    """A loop within a sound."""

    first: int
    behind: int
    """The frame behind its last: what comes after it is like what comes after the first."""
    mismatch: float
    """Power of the difference around both ends over the power of both, 0 where they are alike."""


def loop_points(audio: Audio, rate_hz: int, *, hertz: float, first_s: float, last_s: float) -> LoopPoints | None:
    """The best loop of a sound between two moments; None where it does not last, or is nowhere alike.

    The square of the difference of two windows is the sum of their powers less twice their product: it is reckoned for
    all ends at once by correlation.

    Args:
        audio: shape (channels, frames).
        hertz: the pitch, which says how long a loop and a window have to be at least.
        first_s, last_s: between which both ends lie.
    """
    window = round(max(LEAST_WINDOW_S, WINDOW_CYCLES / hertz) * rate_hz)
    least = round(max(LEAST_LOOP_S, LEAST_CYCLES / hertz) * rate_hz)
    low, high = round(first_s * rate_hz), min(round(last_s * rate_hz), audio.shape[1] - window)
    room = high - low - least - window
    if room <= 0:
        return None
    x = np.asarray(audio, np.float64)
    powers = np.concatenate([[0.0], np.cumsum(np.sum(x * x, axis=0))])
    best: LoopPoints | None = None
    for first in np.unique(np.linspace(low, low + room // 2, STARTS).astype(np.int64)):
        ends = np.arange(first + least, high)
        around = x[:, first : first + window]
        own = float(powers[first + window] - powers[first])
        theirs = powers[ends + window] - powers[ends]
        if own < SILENT_POWER * window:
            continue
        mismatch = (own + theirs - 2.0 * _products(x, around, first + least, high, window)) / (own + theirs)
        fall_db = 10.0 * np.abs(np.log10(np.maximum(theirs, 1e-30) / own))
        mismatch = np.where(fall_db > WORST_FALL_DB, 1.0, mismatch)
        index = int(np.argmin(mismatch))
        if best is None or mismatch[index] < best.mismatch:
            best = LoopPoints(int(first), int(ends[index]), float(max(0.0, mismatch[index])))
    if best is None or best.mismatch > WORST_MISMATCH:
        return None
    return _at_a_crossing(x[0] if x.shape[0] == 1 else x.mean(axis=0), best, round(rate_hz / hertz))


def _products(
    x: NDArray[np.float64], around: NDArray[np.float64], first: int, behind: int, window: int
) -> NDArray[np.float64]:
    """The product of a window with that at each frame from `first` to `behind`."""
    total = np.zeros(behind - first)
    for channel, part in zip(x, around, strict=True):
        total += convolution(channel[first : behind + window - 1], part[::-1], mode="valid")[: behind - first]
    return total


def _at_a_crossing(mono: NDArray[np.float64], found: LoopPoints, cycle: int) -> LoopPoints:
    """The same loop a little later, where both its ends are nearest to zero: there a step is heard least."""
    places = np.arange(min(cycle, mono.shape[0] - found.behind))
    if not places.size:
        return found
    size = np.maximum(np.abs(mono[found.first + places]), np.abs(mono[found.behind + places]))
    by = int(np.argmin(size))
    return LoopPoints(found.first + by, found.behind + by, found.mismatch)


def crossfaded(audio: Audio, loop: LoopPoints, frames: int) -> Audio:
    """A sound whose loop goes over into its beginning: what precedes its end becomes what precedes its beginning."""
    frames = min(frames, loop.first, loop.behind - loop.first)
    if frames <= 0:
        return audio
    rising = (np.arange(1, frames + 1, dtype=np.float64) / frames).astype(np.float32)
    out = audio.copy()
    before_end, before_first = (slice(at - frames, at) for at in (loop.behind, loop.first))
    out[:, before_end] = audio[:, before_end] * (np.float32(1.0) - rising) + audio[:, before_first] * rising
    return out
