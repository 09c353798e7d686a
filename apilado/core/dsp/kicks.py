"""A synthesised kick."""

from __future__ import annotations

import math

import numpy as np

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.envelopes import DECAY_NEPERS, falling
from apilado.core.dsp.shapers import soft_clip

CLICK_MS = 6.0


def kick_sound(
    *,
    start_hz: float,
    end_hz: float,
    sweep_ms: float,
    decay_ms: float,
    click: float,
    drive_db: float,
    rate_hz: int,
    seed: int,
) -> Audio:
    """One hit, shape (1, frames), peak 1.

    A sine whose frequency falls exponentially from `start_hz` to `end_hz` (60 dB of the way in `sweep_ms`), decaying
    by 60 dB in `decay_ms`; a `click` of differenced noise in its first 6 ms; soft-clipped with `drive_db`.
    """
    frames = max(1, math.ceil(decay_ms * rate_hz / 1000.0))
    t = np.arange(frames) / rate_hz
    tau = sweep_ms / 1000.0 / DECAY_NEPERS
    cycles = end_hz * t + (start_hz - end_hz) * tau * (1.0 - np.exp(-t / tau))
    body = np.sin(2.0 * np.pi * cycles) * falling(frames, frames)
    if click > 0.0:
        length = min(frames, math.ceil(CLICK_MS * rate_hz / 1000.0))
        noise = np.random.default_rng(seed).standard_normal(length + 1)
        body[:length] += click * 0.5 * np.diff(noise) * falling(length, length)
    driven = soft_clip(body.astype(np.float32), 10.0 ** (drive_db / 20.0))
    peak = float(np.max(np.abs(driven)))
    return (driven / peak if peak > 0.0 else driven).reshape(1, -1)
