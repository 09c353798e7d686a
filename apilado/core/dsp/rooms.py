"""A room: lines of different lengths that feed each other through a lossless mixture, so that their sum decays evenly.

A feedback delay network after J.-M. Jot and A. Chaigne, "Digital delay networks for designing artificial
reverberators", AES Convention 90, 1991: each line of d frames is turned down by 60 dB·d/(rate·RT60), and by a low-pass
of first order as much more at the top as it is to die away sooner there. The mixture is a Hadamard matrix of order 16.
Before it lie all-passes after M. R. Schroeder, "Natural sounding artificial reverberation", JAES 10, 1962.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value
from apilado.core.dsp.kernels import summing_kernel
from apilado.core.dsp.lead_in import led_in

LINES = 16
SHORTEST, LONGEST = 0.55, 1.6
"""Lengths of lines, as shares of the mean."""
SPREADERS_MS = ((1.31, 2.17, 3.53), (1.49, 2.03, 3.79))
"""All-passes before the lines, left and right."""
SOUND_M_PER_S = 343.0
FORGOTTEN_ROUNDS = 2.0
"""Of RT60: then it is under -120 dB."""


@dataclass(frozen=True)
class Room:
    """How large a room is, and how it dies away."""

    decay_s: float
    """RT60: after how long it is 60 dB down."""
    size_m: float
    """The mean way between two walls."""
    damping: float
    """0: the top dies away like the rest; 1: twenty times as quickly."""

    def mean_seconds(self) -> float:
        """Mean length of its lines."""
        return self.size_m / SOUND_M_PER_S

    def level(self) -> float:
        """By what its lines are turned down so that noise comes out as loud as it goes in, whatever the decay.

        Of what goes round, a share g = 10^(-6·mean/RT60) of the power is left at each turn: 2·g/(1 - g) of it all told.
        """
        left = 10.0 ** (-6.0 * self.mean_seconds() / self.decay_s)
        return float(np.sqrt((1.0 - left) / (2.0 * left)))

    def rings_seconds(self) -> float:
        """After how long nothing is left of it."""
        return FORGOTTEN_ROUNDS * self.decay_s + 2.0 * LONGEST * self.mean_seconds() + 0.1


def _is_prime(number: int) -> bool:
    return all(number % each for each in range(2, math.isqrt(number) + 1))


@lru_cache(maxsize=64)
def line_frames(size_m: float, rate_hz: int) -> tuple[int, ...]:
    """Lengths of the lines: primes, spread evenly in octaves, so that no two have a round in common."""
    mean = size_m / SOUND_M_PER_S * rate_hz
    shares = np.geomspace(SHORTEST, LONGEST, LINES)
    found: list[int] = []
    for share in shares / float(np.mean(shares)):
        length = max(7, round(mean * float(share)))
        while not _is_prime(length) or length in found:
            length += 1
        found.append(length)
    return tuple(found)


def _filters(room: Room, rate_hz: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """(gain, pole) of the low-pass of each line: g·(1 - p)/(1 - p·z⁻¹), which is g at 0 Hz."""
    lengths = np.array(line_frames(room.size_m, rate_hz), np.float64)
    low = 10.0 ** (-3.0 * lengths / (room.decay_s * rate_hz))
    ratio = 1.0 / (1.0 + 19.0 * room.damping)
    high = 10.0 ** (-3.0 * lengths / (room.decay_s * ratio * rate_hz))
    # At half of the rate it is g·(1 - p)/(1 + p).
    pole = (low - high) / (low + high)
    return low.astype(np.float32), pole.astype(np.float32)


@summing_kernel
def _room_kernel(
    x: Any,
    level: Any,
    spread: Any,
    spread_at: Any,
    lines: Any,
    lengths: Any,
    at: Any,
    gains: Any,
    poles: Any,
    damped: Any,
    y: Any,
) -> None:
    now = np.empty(16, np.float32)
    for n in range(x.shape[1]):
        for channel in range(2):
            signal = x[channel, n] * level
            for k in range(3):
                each = 3 * channel + k
                place = spread_at[each, 0]
                old = spread[each, place]
                fed = signal - np.float32(0.55) * old
                spread[each, place] = fed if abs(fed) > np.float32(1e-20) else np.float32(0.0)
                signal = old + np.float32(0.55) * fed
                place += 1
                spread_at[each, 0] = place if place < spread_at[each, 1] else 0
            if channel == 0:
                left = signal
            else:
                right = signal
        for i in range(16):
            damped[i] = lines[i, at[i]] * gains[i] * (np.float32(1.0) - poles[i]) + poles[i] * damped[i]
            now[i] = damped[i]
        a = np.float32(0.0)
        b = np.float32(0.0)
        for i in range(4):
            a += now[4 * i] - now[4 * i + 2]
            b += now[4 * i + 1] - now[4 * i + 3]
        y[0, n] = np.float32(0.5) * a
        y[1, n] = np.float32(0.5) * b
        for i in range(8):
            p, q = now[i], now[i + 8]
            now[i], now[i + 8] = p + q, p - q
        for j in range(2):
            for i in range(4):
                p, q = now[8 * j + i], now[8 * j + i + 4]
                now[8 * j + i], now[8 * j + i + 4] = p + q, p - q
        for j in range(4):
            for i in range(2):
                p, q = now[4 * j + i], now[4 * j + i + 2]
                now[4 * j + i], now[4 * j + i + 2] = p + q, p - q
        for j in range(8):
            p, q = now[2 * j], now[2 * j + 1]
            now[2 * j], now[2 * j + 1] = p + q, p - q
        for i in range(16):
            fed = np.float32(0.25) * now[i] + (left if i % 2 == 0 else right)
            lines[i, at[i]] = fed if abs(fed) > np.float32(1e-18) else np.float32(0.0)
            at[i] = at[i] + 1 if at[i] + 1 < lengths[i] else 0


def in_room(audio: Audio, room: Room, *, rate_hz: int, looped: bool) -> Audio:
    """What a room gives back of a sound, shape (2, frames): of the left mostly on the left at first, then of both.

    Args:
        audio: shape (2, frames).
    """
    level = np.float32(room.level())
    lengths = np.array(line_frames(room.size_m, rate_hz), np.int64)
    gains, poles = _filters(room, rate_hz)
    lines = np.zeros((LINES, int(lengths.max())), np.float32)
    spreaders = np.array([[0, max(2, round(ms * rate_hz / 1000.0))] for side in SPREADERS_MS for ms in side], np.int64)
    spread = np.zeros((len(spreaders), int(spreaders[:, 1].max())), np.float32)
    at, damped = np.zeros(LINES, np.int64), np.zeros(LINES, np.float32)

    def run(sound: Audio, values: Sequence[Value]) -> Audio:
        out = np.empty((2, sound.shape[1]), np.float32)
        _room_kernel(sound, level, spread, spreaders, lines, lengths, at, gains, poles, damped, out)
        return out

    return led_in(run, audio, (), math.ceil(room.rings_seconds() * rate_hz) if looped else 0)
