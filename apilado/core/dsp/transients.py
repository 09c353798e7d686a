"""Attack and sustain of one hit, by the difference of envelopes that follow it quickly and slowly."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.dynamics import smoothing_coefficient
from apilado.core.dsp.kernels import kernel

QUICK_MS, SLOW_RISE_MS, SLOW_FALL_MS = 1.0, 20.0, 120.0
WHOLE_DB = 6.0
"""A difference of this much moves the level by the whole of what is asked."""
RIPPLE_DB = 2.0
"""What envelopes of a low wave differ by without any attack or sustain."""
FLOOR = 1e-4


@kernel
def _envelope_kernel(level: Any, rise: float, fall: float, out: Any) -> None:
    held = 0.0
    for n in range(level.shape[0]):
        c = rise if level[n] > held else fall
        held = c * held + (1.0 - c) * level[n]
        out[n] = held


def _envelope(level: NDArray[np.float64], rise_ms: float, fall_ms: float, rate_hz: int) -> NDArray[np.float64]:
    out = np.empty_like(level)
    _envelope_kernel(level, smoothing_coefficient(rise_ms, rate_hz), smoothing_coefficient(fall_ms, rate_hz), out)
    return out


def shaped_hit(audio: Audio, *, attack_db: float, sustain_db: float, rate_hz: int) -> Audio:
    """One hit with its attack and its sustain turned up or down; same shape."""
    if attack_db == 0.0 and sustain_db == 0.0:
        return audio
    return turned(audio, transient_gain_db(audio, attack_db=attack_db, sustain_db=sustain_db, rate_hz=rate_hz))


def turned(audio: Audio, gain_db: NDArray[np.float64]) -> Audio:
    """The audio by a gain in dB of each frame."""
    return np.asarray(audio * (10.0 ** (gain_db / 20.0)).astype(np.float32))


def transient_gain_db(
    audio: Audio, *, attack_db: float | NDArray[np.float32], sustain_db: float | NDArray[np.float32], rate_hz: int
) -> NDArray[np.float64]:
    """By how much each frame is turned, shape (frames,).

    The attack is where a quick envelope lies above one that rises slowly; the sustain, where one that falls slowly lies
    above a quick one.
    """
    level = np.max(np.abs(audio), axis=0).astype(np.float64)
    # A quick envelope that falls over a period of the lowest kick does not follow the wave itself.
    quick = _envelope(level, QUICK_MS, SLOW_RISE_MS, rate_hz)
    rising = _envelope(quick, SLOW_RISE_MS, SLOW_RISE_MS, rate_hz)
    falling = _envelope(quick, QUICK_MS, SLOW_FALL_MS, rate_hz)
    per_db = 20.0 / math.log(10.0)

    def share(upper: NDArray[np.float64], lower: NDArray[np.float64]) -> NDArray[np.float64]:
        apart = per_db * np.log((upper + FLOOR) / (lower + FLOOR)) - RIPPLE_DB
        return np.clip(apart / WHOLE_DB, 0.0, 1.0)

    return attack_db * share(quick, rising) + sustain_db * share(falling, quick)
