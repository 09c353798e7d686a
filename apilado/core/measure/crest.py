"""How far the peaks of a sound stand over its level: what drives and limiters take away."""

from __future__ import annotations

import numpy as np

from apilado.core.dsp.audio import Audio
from apilado.core.units import gain_to_db, ms_to_samples

WINDOW_MS = 50.0
"""Two waves of 40 Hz."""
LOUD_DB = 12.0
"""Windows further under the loudest than that, such as tails and gaps, are not asked."""
SILENT = 1e-5


def crest_db(audio: Audio, *, rate_hz: int) -> float | None:
    """Peak over mean level, in dB, in the windows in which the sound is loud, their median; None in silence.

    A square is 0 dB, a sine 3.01 dB.
    """
    length = ms_to_samples(WINDOW_MS, rate_hz)
    count = audio.shape[1] // length
    windows = audio[:, : count * length].reshape(audio.shape[0], count, length).astype(np.float64)
    levels = np.sqrt(np.mean(np.square(windows), axis=2))
    channel = int(np.argmax(levels.max(axis=1, initial=0.0))) if count else 0
    level, peak = levels[channel], np.abs(windows[channel]).max(axis=1, initial=0.0)
    loudest = float(level.max(initial=0.0))
    if loudest < SILENT:
        return None
    loud = level > loudest * 10.0 ** (-LOUD_DB / 20.0)
    return float(np.median(gain_to_db(peak[loud] / level[loud])))
