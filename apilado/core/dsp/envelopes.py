"""Envelopes of a note."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

DECAY_NEPERS = math.log(1000.0)
"""A decay or release has come down by 60 dB, and ends, after its time."""
CUT_MS = 4.0
"""A note that is cut off by the next one of the same voice fades within this time: no click."""


def falling(frames: int, length: int) -> NDArray[np.float64]:
    """An exponential fall from 1 that reaches exactly 0 at `length` frames; shape (frames,)."""
    if length <= 0:
        return np.zeros(frames)
    end, curve = math.exp(-DECAY_NEPERS), np.zeros(frames)
    lasts = np.arange(min(frames, length))  # behind it there is nothing to reckon
    curve[: lasts.shape[0]] = (np.exp(-DECAY_NEPERS * lasts / length) - end) / (1.0 - end)
    return curve


def rising(length: int) -> NDArray[np.float64]:
    """Half a cosine from 0 up to 1 over `length` frames, no corner at either end."""
    return 0.5 - 0.5 * np.cos(np.pi * np.arange(length) / max(length, 1))


def adsr(
    frames: int,
    gate_frames: int,
    *,
    attack_frames: int,
    decay_frames: int,
    sustain: float,
    release_frames: int,
) -> NDArray[np.float32]:
    """Attack, decay, sustain, release over `frames`; the gate closes after `gate_frames`. Shape (frames,)."""
    gate = min(gate_frames, frames)
    held = np.empty(max(gate, 1))
    attack = min(attack_frames, gate)
    held[:attack] = rising(attack_frames)[:attack]
    if gate > attack:
        held[attack:gate] = sustain + (1.0 - sustain) * falling(gate - attack, decay_frames)
    curve = np.zeros(frames)
    curve[:gate] = held[:gate]
    if frames > gate:
        level = held[gate - 1] if gate > 0 else 0.0
        curve[gate:] = level * falling(frames - gate, release_frames)
    return curve.astype(np.float32)
