"""A comb filter: the sound and its own echo after a period, again and again.

y[n] = x[n] + g·y[n - d], d = rate/f, scaled to a gain of 1 at its peaks. Between samples the line is read by a cubic
through four of them (Lagrange), which at d ≥ 4 and below a fifth of the rate is flat within 0.1 dB.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, rows
from apilado.core.dsp.kernels import kernel
from apilado.core.dsp.lead_in import wrapped_tail, wrapped_value
from apilado.core.units import db_to_gain

FEWEST_FRAMES = 4.0
FORGOTTEN_DB = 120.0


@kernel
def _comb_kernel(x: Any, at: Any, rows: Any, rate: float, line: Any, place: int, y: Any) -> int:
    last, size = at.shape[0] - 1, line.shape[1]
    for k in range(at.shape[0]):
        end = at[k + 1] if k < last else x.shape[1]
        span = max(1, end - at[k])
        octave, gain = math.log2(rows[k, 0]), rows[k, 1]
        octave_step = (math.log2(rows[k + 1, 0]) - octave) / span if k < last else 0.0
        gain_step = (rows[k + 1, 1] - gain) / span if k < last else 0.0
        for n in range(at[k], end):
            late = min(max(rate / 2.0**octave, 4.0), size - 3.0)
            whole = int(late)
            share = late - whole
            a = -share * (share - 1.0) * (share - 2.0) / 6.0
            b = (share + 1.0) * (share - 1.0) * (share - 2.0) / 2.0
            c = -(share + 1.0) * share * (share - 2.0) / 2.0
            d = (share + 1.0) * share * (share - 1.0) / 6.0
            for channel in range(x.shape[0]):
                row = line[channel]
                back = (
                    a * row[(place - whole + 1) % size]
                    + b * row[(place - whole) % size]
                    + c * row[(place - whole - 1) % size]
                    + d * row[(place - whole - 2) % size]
                )
                now = x[channel, n] + gain * back
                if abs(now) < 1e-20:
                    now = 0.0
                row[place] = now
                y[channel, n] = now * (1.0 - abs(gain))
            place = (place + 1) % size
            octave += octave_step
            gain += gain_step
    return place


def rings_seconds(lowest_hz: float, feedback: float) -> float:
    """After how long an echo that comes back so strong is under -120 dB."""
    rounds = FORGOTTEN_DB / max(1e-3, -20.0 * math.log10(min(max(abs(feedback), 1e-3), 0.9999)))
    return rounds / lowest_hz


def combed(audio: Audio, frequency_hz: Value, feedback: Value, *, rate_hz: int, looped: bool, rings_s: float) -> Audio:
    """The audio through a comb whose teeth lie at multiples of a frequency; with a negative feedback between them.

    Args:
        rings_s: for how long it rings: so much of the round before is run through it first.
    """
    lowest = float(np.min(rows((frequency_hz,))[1]))
    line: NDArray[np.float64] = np.zeros((audio.shape[0], math.ceil(rate_hz / lowest) + 8))
    place = 0
    if looped:
        ahead = math.ceil(rings_s * rate_hz)
        before = wrapped_tail(audio, ahead)
        values = rows((wrapped_value(frequency_hz, ahead), wrapped_value(feedback, ahead)))
        place = _comb_kernel(before, *values, float(rate_hz), line, 0, np.empty_like(before))
    out = np.empty_like(audio)
    _comb_kernel(np.ascontiguousarray(audio), *rows((frequency_hz, feedback)), float(rate_hz), line, place, out)
    return out


def feedback_of(resonance: float) -> float:
    """The feedback for a resonance of 0 to 1: what comes back decays by 60 dB in 3 rounds to 300."""
    rounds = 3.0 * 100.0**resonance
    return float(db_to_gain(-60.0 / rounds))
