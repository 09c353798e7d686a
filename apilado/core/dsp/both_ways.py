"""Dynamics in both directions: what is loud is turned down, what is quiet is turned up."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, rows
from apilado.core.dsp.dynamics import SETTLED_CONSTANTS, smoothing_coefficient
from apilado.core.dsp.gates import LEVEL_FALL_MS
from apilado.core.dsp.kernels import kernel
from apilado.core.dsp.lead_in import wrapped_tail, wrapped_value
from apilado.core.units import ms_to_samples

LEVEL_HOLD_MS = 12.5
"""A peak counts for so long: half a wave of 40 Hz, so that the wave of a bass is not taken for its level."""
NOT_LIFTED_DB, LIFTED_DB = -80.0, -60.0
"""What lies below the first is left alone: it is silence, or noise. From the second on a sound is lifted in full."""


@dataclass(frozen=True)
class BothWays:
    """Above one threshold a level is lowered, below another it is lifted, by a ratio each."""

    above_db: Value
    lowers: float
    below_db: Value
    lifts: float
    most_lift_db: float
    attack_ms: float
    release_ms: float

    def settle_frames(self, rate_hz: int) -> int:
        """Frames after which all memory has settled."""
        return ms_to_samples(
            SETTLED_CONSTANTS * (self.attack_ms + self.release_ms + LEVEL_FALL_MS) + LEVEL_HOLD_MS, rate_hz
        )


def static_change(levels_db: NDArray[np.float64], how: BothWays, above_db: float, below_db: float) -> NDArray[Any]:
    """What is taken from steady levels in dB; below nothing where they are lifted."""
    taken = np.maximum(levels_db - above_db, 0.0) * (1.0 - 1.0 / how.lowers)
    lifted = np.minimum(np.maximum(below_db - levels_db, 0.0) * (1.0 - 1.0 / how.lifts), how.most_lift_db)
    heard = np.clip((levels_db - NOT_LIFTED_DB) / (LIFTED_DB - NOT_LIFTED_DB), 0.0, 1.0)
    return np.asarray(taken - lifted * heard)


@kernel
def _kernel(
    key: Any,
    at: Any,
    rows: Any,
    lowers: float,
    lifts: float,
    most: float,
    hold: int,
    fall: float,
    attack: float,
    release: float,
    state: Any,
    out: Any,
) -> None:
    level, smooth, held = state[0], state[1], state[2]
    last = at.shape[0] - 1
    for k in range(at.shape[0]):
        end = at[k + 1] if k < last else key.shape[1]
        span = max(1, end - at[k])
        above, below = rows[k, 0], rows[k, 1]
        above_step = (rows[k + 1, 0] - above) / span if k < last else 0.0
        below_step = (rows[k + 1, 1] - below) / span if k < last else 0.0
        for n in range(at[k], end):
            now = abs(np.float64(key[0, n]))
            for c in range(1, key.shape[0]):
                now = max(now, abs(np.float64(key[c, n])))
            if now >= level:
                level, held = now, hold
            elif held > 0:
                held -= 1
            else:
                level = max(now, fall * level)
            wanted = 0.0
            if level > 1e-4:  # NOT_LIFTED_DB
                level_db = 20.0 * np.log10(level)
                wanted = max(level_db - above, 0.0) * lowers
                lifted = min(max(below - level_db, 0.0) * lifts, most)
                wanted -= lifted * min((level_db + 80.0) * 0.05, 1.0)
            kept = attack if wanted > smooth else release
            smooth = kept * smooth + (1.0 - kept) * wanted
            if abs(smooth) < 1e-9:
                smooth = 0.0
            out[n] = smooth
            above += above_step
            below += below_step
    state[0], state[1], state[2] = level if level > 1e-12 else 0.0, smooth, held


def _run(key: Audio, how: BothWays, rate_hz: int, state: NDArray[np.float64]) -> NDArray[np.float32]:
    out = np.empty(key.shape[1], np.float32)
    _kernel(
        key,
        *rows((how.above_db, how.below_db)),
        1.0 - 1.0 / how.lowers,
        1.0 - 1.0 / how.lifts,
        how.most_lift_db,
        ms_to_samples(LEVEL_HOLD_MS, rate_hz),
        smoothing_coefficient(LEVEL_FALL_MS, rate_hz),
        smoothing_coefficient(how.attack_ms, rate_hz),
        smoothing_coefficient(how.release_ms, rate_hz),
        state,
        out,
    )
    return out


def change_both_ways(key: Audio, how: BothWays, *, rate_hz: int, looped: bool) -> NDArray[np.float32]:
    """What is taken in dB frame by frame, below nothing where the sound is lifted: from rest, or for a loop from where
    the round before has left it."""
    state = np.zeros(3)
    if looped:
        ahead = how.settle_frames(rate_hz)
        above, below = (wrapped_value(each, ahead) for each in (how.above_db, how.below_db))
        _run(wrapped_tail(key, ahead), replace(how, above_db=above, below_db=below), rate_hz, state)
    return _run(key, how, rate_hz, state)
