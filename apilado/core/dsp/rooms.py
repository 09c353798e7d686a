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
from apilado.core.dsp.breaking_off import pieces
from apilado.core.dsp.curves import Value
from apilado.core.dsp.kernels import summing_kernel
from apilado.core.dsp.lead_in import led_in

LINES = 16
SHORTEST, LONGEST = 0.55, 1.6
"""Lengths of lines, as shares of the mean."""
SPREADERS_MS = ((1.31, 2.17, 3.53), (1.49, 2.03, 3.79))
"""All-passes before the lines, left and right."""
SOUND_M_PER_S = 343.0
BLOCK, BLOCKS_AT_ONCE = 256, 128
"""Frames that go through all lines together, where the shortest line is as long; how many such are a piece of work."""
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
def _spread(block: Any, ring: Any, place: int, length: int) -> int:
    """A block through an all-pass, in place; its ring holds `length` frames. Gives the ring's next place."""
    done = 0
    while done < block.shape[0]:
        count = min(block.shape[0] - done, length - place)
        part, held = block[done : done + count], ring[place : place + count]
        for n in range(count):
            old = held[n]
            fed = part[n] - np.float32(0.55) * old
            held[n] = fed if abs(fed) > np.float32(1e-20) else np.float32(0.0)
            part[n] = old + np.float32(0.55) * fed
        done += count
        place = place + count if place + count < length else 0
    return place


@summing_kernel
def _read(line: Any, place: int, length: int, block: Any) -> None:
    """A block out of a ring of `length` frames."""
    first = min(block.shape[0], length - place)
    some, rest = line[place : place + first], block[first:]
    for n in range(first):
        block[n] = some[n]
    for n in range(rest.shape[0]):
        rest[n] = line[n]


@summing_kernel
def _write(line: Any, place: int, length: int, block: Any) -> None:
    """A block into a ring of `length` frames."""
    first = min(block.shape[0], length - place)
    some, rest = line[place : place + first], block[first:]
    for n in range(first):
        some[n] = block[n]
    for n in range(rest.shape[0]):
        line[n] = rest[n]


@summing_kernel
def _damp_four(a: Any, b: Any, c: Any, d: Any, gains: Any, poles: Any, state: Any) -> None:
    """The low-passes of four lines, in place: a frame waits for the one before, four side by side wait together."""
    g, h, i, j = gains[0], gains[1], gains[2], gains[3]
    p, q, r, s = poles[0], poles[1], poles[2], poles[3]
    now_a, now_b, now_c, now_d = state[0], state[1], state[2], state[3]
    one = np.float32(1.0)
    for n in range(a.shape[0]):
        now_a = a[n] * g * (one - p) + p * now_a
        now_b = b[n] * h * (one - q) + q * now_b
        now_c = c[n] * i * (one - r) + r * now_c
        now_d = d[n] * j * (one - s) + s * now_d
        a[n], b[n], c[n], d[n] = now_a, now_b, now_c, now_d
    state[0], state[1], state[2], state[3] = now_a, now_b, now_c, now_d


@summing_kernel
def _mix(rows: Any, count: int) -> None:
    """Sixteen rows by the Hadamard matrix, in place: sums and differences of rows that lie 8, 4, 2 and 1 apart."""
    apart = 8
    while apart > 0:
        for first in range(0, 16, 2 * apart):
            for row in range(first, first + apart):
                upper, lower = rows[row][:count], rows[row + apart][:count]
                for n in range(count):
                    p, q = upper[n], lower[n]
                    upper[n], lower[n] = p + q, p - q
        apart //= 2


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
    start: int,
    end: int,
    y: Any,
) -> None:
    """Block by block, each no longer than the shortest line: what is read of the lines was written before it."""
    longest = min(BLOCK, lengths.min())
    now, given = np.empty((16, longest), np.float32), np.empty((2, longest), np.float32)
    half, quarter = np.float32(0.5), np.float32(0.25)
    for begin in range(start, end, longest):
        count = min(longest, end - begin)
        for side in range(2):
            block, sound = given[side][:count], x[side][begin : begin + count]
            for n in range(count):
                block[n] = sound[n] * level
            for each in range(3 * side, 3 * side + 3):
                spread_at[each, 0] = _spread(block, spread[each], spread_at[each, 0], spread_at[each, 1])
        for i in range(16):
            _read(lines[i], at[i], lengths[i], now[i][:count])
        for i in range(0, 16, 4):
            a, b, c, d = now[i][:count], now[i + 1][:count], now[i + 2][:count], now[i + 3][:count]
            _damp_four(a, b, c, d, gains[i : i + 4], poles[i : i + 4], damped[i : i + 4])
        left, right = y[0][begin : begin + count], y[1][begin : begin + count]
        for n in range(count):
            left[n], right[n] = np.float32(0.0), np.float32(0.0)
        for i in range(0, 16, 4):
            a, b, c, d = now[i][:count], now[i + 1][:count], now[i + 2][:count], now[i + 3][:count]
            for n in range(count):
                left[n] += half * (a[n] - c[n])
                right[n] += half * (b[n] - d[n])
        _mix(now, count)
        for i in range(16):
            mixed, fresh = now[i][:count], given[i % 2][:count]
            for n in range(count):
                fed = quarter * mixed[n] + fresh[n]
                mixed[n] = fed if abs(fed) > np.float32(1e-18) else np.float32(0.0)
            _write(lines[i], at[i], lengths[i], mixed)
            at[i] = (at[i] + count) % lengths[i]


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
        for begin, end in pieces(sound.shape[1], BLOCKS_AT_ONCE * min(BLOCK, int(lengths.min()))):
            _room_kernel(sound, level, spread, spreaders, lines, lengths, at, gains, poles, damped, begin, end, out)
        return out

    return led_in(run, audio, (), math.ceil(room.rings_seconds() * rate_hz) if looped else 0)
