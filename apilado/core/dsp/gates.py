"""A gate: what is below its threshold is turned down."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, rows
from apilado.core.dsp.dynamics import SETTLED_CONSTANTS, smoothing_coefficient
from apilado.core.dsp.kernels import kernel
from apilado.core.dsp.lead_in import wrapped_tail, wrapped_value
from apilado.core.units import ms_to_samples

LEVEL_FALL_MS = 10.0
"""A level falls no quicker: the wave of a bass is not its level."""


@dataclass(frozen=True)
class Gate:
    """Opens above a threshold, at once or slowly; closes below it less `back_db`, after a hold."""

    threshold_db: Value
    range_db: Value
    attack_ms: float
    hold_ms: float
    release_ms: float
    back_db: float

    def settle_frames(self, rate_hz: int) -> int:
        """Frames after which all memory has settled."""
        constants = SETTLED_CONSTANTS * (self.attack_ms + self.release_ms + LEVEL_FALL_MS)
        return ms_to_samples(constants + self.hold_ms, rate_hz)


@kernel
def _gate_kernel(
    key: Any,
    at: Any,
    rows: Any,
    back: float,
    fall: float,
    attack: float,
    hold: float,
    release: float,
    state: Any,
    out: Any,
) -> None:
    level, opened, held, is_open = state[0], state[1], state[2], state[3]
    last = at.shape[0] - 1
    for k in range(at.shape[0]):
        end = at[k + 1] if k < last else key.shape[1]
        span = max(1, end - at[k])
        threshold_db, range_db = rows[k, 0], rows[k, 1]
        threshold_step = (rows[k + 1, 0] - threshold_db) / span if k < last else 0.0
        range_step = (rows[k + 1, 1] - range_db) / span if k < last else 0.0
        threshold = 10.0 ** (threshold_db / 20.0)
        factor = 10.0 ** (threshold_step / 20.0)
        for n in range(at[k], end):
            now = abs(np.float64(key[0, n]))
            for c in range(1, key.shape[0]):
                now = max(now, abs(np.float64(key[c, n])))
            level = max(now, fall * level)
            if level >= threshold:
                is_open, held = 1.0, hold
            elif level < threshold * back:
                if held > 0.0:
                    held -= 1.0
                else:
                    is_open = 0.0
            kept = attack if is_open > opened else release
            opened = kept * opened + (1.0 - kept) * is_open
            out[n] = range_db * (1.0 - opened)
            threshold *= factor
            range_db += range_step
    state[0], state[1], state[2], state[3] = level, opened, held, is_open


def _run(key: Audio, gate: Gate, rate_hz: int, state: NDArray[np.float64]) -> NDArray[np.float32]:
    out = np.empty(key.shape[1], np.float32)
    _gate_kernel(
        key,
        *rows((gate.threshold_db, gate.range_db)),
        10.0 ** (-gate.back_db / 20.0),
        smoothing_coefficient(LEVEL_FALL_MS, rate_hz),
        smoothing_coefficient(gate.attack_ms, rate_hz),
        float(ms_to_samples(gate.hold_ms, rate_hz)),
        smoothing_coefficient(gate.release_ms, rate_hz),
        state,
        out,
    )
    return out


def gate_reduction(key: Audio, gate: Gate, *, rate_hz: int, looped: bool) -> NDArray[np.float32]:
    """What a gate takes in dB (0 and up), frame by frame: from shut, or for a loop from where it was left."""
    state = np.zeros(4)
    if looped:
        ahead = gate.settle_frames(rate_hz)
        threshold, depth = (wrapped_value(each, ahead) for each in (gate.threshold_db, gate.range_db))
        before = replace(gate, threshold_db=threshold, range_db=depth)
        _run(wrapped_tail(key, ahead), before, rate_hz, state)
    return _run(key, gate, rate_hz, state)
