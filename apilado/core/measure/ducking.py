"""The gain reduction at each hit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, peak_of
from apilado.core.units import gain_to_db

RECOVERED_DB = 1.0


@dataclass(frozen=True)
class HitRecovery:
    """One hit of the trigger."""

    beat: float
    depth_db: float
    """Deepest reduction before the next hit."""
    recovery_ms: float | None
    """From the hit until the reduction stays below 1 dB; None if it does not before the next hit."""
    gap_ms: float
    """From the hit to the next one."""
    left_db: float
    """Reduction that is left just before the next hit."""


def hit_recoveries(
    reduction_db: NDArray[np.float32], hits: tuple[tuple[float, int], ...], *, rate_hz: int, lookahead_frames: int
) -> tuple[HitRecovery, ...]:
    """How the reduction comes back after each hit of a loop.

    Args:
        reduction_db: shape (frames,), a whole loop.
        hits: (beat, frame) of each, ascending.
        lookahead_frames: the next hit's reduction begins this much before it, and is not counted to this one.
    """
    frames = reduction_db.shape[0]
    result = []
    for index, (beat, frame) in enumerate(hits):
        following = hits[index + 1][1] if index + 1 < len(hits) else hits[0][1] + frames
        gap = following - frame
        if gap <= 0:
            continue
        span = reduction_db[np.arange(frame, frame + max(1, gap - lookahead_frames)) % frames]
        above = np.flatnonzero(span > RECOVERED_DB)
        last = int(above[-1]) if above.size else 0
        result.append(
            HitRecovery(
                beat=beat,
                depth_db=float(np.max(span)),
                recovery_ms=None if last >= span.shape[0] - 1 and above.size else 1000.0 * last / rate_hz,
                gap_ms=1000.0 * gap / rate_hz,
                left_db=float(span[-1]),
            )
        )
    return tuple(result)


@dataclass(frozen=True)
class Headroom:
    """Peaks of the mix without and with the duck."""

    before_db: float
    after_db: float

    @property
    def won_db(self) -> float:
        """How much lower the mix peaks with the duck."""
        return self.before_db - self.after_db


def headroom_won(before: Audio, after: Audio) -> Headroom:
    """Peaks of a mix, or of a stretch of it, without (`before`) and with (`after`) its duckers."""
    peaks = [float(gain_to_db(peak_of(audio))) for audio in (before, after)]
    return Headroom(*peaks)
