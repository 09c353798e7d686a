"""A synthesised kick."""

from __future__ import annotations

import math

import numpy as np
import soxr
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.envelopes import DECAY_NEPERS, falling, rising
from apilado.core.dsp.oversampling import interpolated_peak, oversampled
from apilado.core.dsp.shapers import soft_clip

OWN_RATE_HZ, DRIVEN_AT = 96000, 2
"""A kick is made at a rate of its own and brought to that of the piece: it is the same sound at all of them."""
CLICK_MS, CLICK_ONSET_MS = 6.0, 0.15
CLICK_RATE_HZ = 40000
"""The rate at which the click's noise is drawn: its band ends at 18 kHz."""
CLICK_GAIN = 0.5


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
    """One hit, shape (1, frames), its true peak 1.

    A sine whose frequency falls exponentially from `start_hz` to `end_hz` (60 dB of the way in `sweep_ms`), decaying
    by 60 dB in `decay_ms`; a `click` of differenced noise in its first 6 ms; soft-clipped with `drive_db`, oversampled.
    """
    frames = max(1, math.ceil(decay_ms * OWN_RATE_HZ / 1000.0))
    t = np.arange(frames) / OWN_RATE_HZ
    tau = sweep_ms / 1000.0 / DECAY_NEPERS
    cycles = end_hz * t + (start_hz - end_hz) * tau * (1.0 - np.exp(-t / tau))
    body = np.sin(2.0 * np.pi * cycles) * falling(frames, frames)
    if click > 0.0:
        noise = click_noise(seed)[:frames]
        body[: noise.shape[0]] += click * CLICK_GAIN * noise
    gain = 10.0 ** (drive_db / 20.0)
    driven = oversampled(body.astype(np.float32).reshape(1, -1), DRIVEN_AT, lambda x: soft_clip(x, gain), looped=False)
    peak = interpolated_peak(driven[0])
    driven = driven / np.float32(peak) if peak > 0.0 else driven
    if rate_hz == OWN_RATE_HZ:
        return driven
    return as_audio(soxr.resample(driven.T, OWN_RATE_HZ, rate_hz, quality="VHQ").T)


def click_noise(seed: int) -> NDArray[np.float64]:
    """A burst of differenced noise of 6 ms, all of it below 18 kHz, at the kick's own rate; shape (frames,)."""
    length = round(CLICK_MS * CLICK_RATE_HZ / 1000.0)
    noise = np.diff(np.random.default_rng(seed).standard_normal(length + 1)) * falling(length, length)
    onset = round(CLICK_ONSET_MS * CLICK_RATE_HZ / 1000.0)
    noise[:onset] *= rising(onset)
    brought = soxr.resample(np.pad(noise, (0, length)), CLICK_RATE_HZ, OWN_RATE_HZ, quality="VHQ")
    return np.asarray(brought, np.float64)
