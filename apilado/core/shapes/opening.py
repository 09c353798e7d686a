"""How far a sound opens what follows it: a course of its level, a keyed bell."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value
from apilado.core.dsp.dynamics import Detector, whole_reduction


def opened_by(
    key: Audio,
    *,
    threshold_db: Value,
    range_db: float,
    ratio: float,
    knee_db: float,
    attack_ms: float,
    release_ms: float,
    rate_hz: int,
    looped: bool,
) -> NDArray[np.float32]:
    """0 below the threshold, 1 where a compressor of that ratio would take the whole range; shape (frames,)."""
    detector = Detector(threshold_db, ratio, knee_db, attack_ms, release_ms)
    detector = replace(detector, range_db=range_db)
    return whole_reduction(key, detector, rate_hz=rate_hz, looped=looped) / np.float32(range_db)
