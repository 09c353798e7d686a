"""A row of all-pass filters whose corner swings, with feedback round it.

Each is of first order, A(s) = (1 - s/ω)/(1 + s/ω) under the bilinear transform. The feedback has no delay of its own:
what comes out now is a·u + b of what goes in now, with b from the states, so u = (x + g·b)/(1 - g·a).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, rows
from apilado.core.dsp.kernels import summing_kernel
from apilado.core.dsp.lead_in import led_in

ROW_FORGOTTEN = 14.0
"""So many time constants, and two more for each filter, until a row of filters is under -120 dB."""


@summing_kernel
def _phase_kernel(x: Any, at: Any, rows: Any, stages: int, state: Any, y: Any) -> None:
    last = at.shape[0] - 1
    for channel in range(2):
        kept = state[channel]
        for k in range(at.shape[0]):
            end = at[k + 1] if k < last else x.shape[1]
            span = max(1, end - at[k])
            corner, back = rows[k, channel], rows[k, 2]
            corner_step = (rows[k + 1, channel] - corner) / span if k < last else 0.0
            back_step = (rows[k + 1, 2] - back) / span if k < last else 0.0
            for n in range(at[k], end):
                direct, rest = 1.0, 0.0
                for stage in range(stages):
                    direct *= corner
                    rest = corner * rest + kept[stage]
                signal = (x[channel, n] + back * rest) / (1.0 - back * direct)
                for stage in range(stages):
                    out = corner * signal + kept[stage]
                    now = signal - corner * out
                    kept[stage] = now if abs(now) > 1e-20 else 0.0
                    signal = out
                y[channel, n] = signal
                corner += corner_step
                back += back_step


def all_pass_of(corners_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.float64]:
    """What each filter of the row gives of a sample at once, for corners in Hz: (tan - 1)/(tan + 1)."""
    bent = np.tan(np.pi * np.minimum(corners_hz, 0.45 * rate_hz) / rate_hz)
    return np.asarray((bent - 1.0) / (bent + 1.0))


def phased(
    audio: Audio, corners: tuple[Value, Value], feedback: Value, *, stages: int, looped: bool, ahead: int
) -> Audio:
    """A sound through the row, shape (2, frames).

    Args:
        audio: shape (2, frames).
        corners: of the left and the right, as `all_pass_of` gives them.
        ahead: so many frames of the rounds before a loop are run through first.
    """
    state = np.zeros((2, stages))

    def run(sound: Audio, values: Sequence[Value]) -> Audio:
        out = np.empty((2, sound.shape[1]), np.float32)
        _phase_kernel(sound, *rows(values), stages, state, out)
        return out

    return led_in(run, audio, (*corners, feedback), ahead if looped else 0)


def row_seconds(lowest_hz: float, stages: int, feedback: float) -> float:
    """After how long a row whose corner lies so low is under -120 dB."""
    return (ROW_FORGOTTEN + 2.0 * stages) / (2.0 * math.pi * lowest_hz) / (1.0 - min(abs(feedback), 0.99))
