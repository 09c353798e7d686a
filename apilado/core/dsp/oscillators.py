"""Band-limited tones from harmonic lists.

A tone of constant pitch is a table of one cycle, made by an inverse FFT of exactly those harmonics that stay below half
the rate: nothing above it is ever played. Tables are long enough (at least 64 points per cycle of the highest harmonic,
or `LONGEST_TABLE`) that linear interpolation keeps its images below -95 dB of the fundamental.

A pulse is a saw less the same saw a pulse width later; so a width that moves is a saw whose place moves.

A tone whose pitch moves has a ladder of tables, each with a ninth fewer harmonics than the one before it
(`RUNGS_PER_OCTAVE` = 6), and goes from rung to rung with its pitch, fading between neighbours: a harmonic goes while it
passes the last sixth of an octave below half the rate, and comes back with the pitch.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from apilado.core.dsp.cycles import LONGEST_TABLE, WALKED_POINTS, Cycle, Levels, table_ladder, walked_table

RUNGS_PER_OCTAVE = 6
POINTS_WALKED = 32
"""Of a cycle that changes on its way, to each of its harmonics at least."""
SHARP_TURN = 0.05
"""So much of its value would a value miss that turned within a step."""
WALK_S = 0.004
"""A cycle that changes is made anew so often; in between it goes over from one to the next."""


def harmonics_below(frequency_hz: float, rate_hz: int) -> int:
    """How many harmonics of a frequency lie below half the rate, with a hair of margin; at least 0."""
    return max(0, min(LONGEST_TABLE // 8, math.floor(0.499 * rate_hz / frequency_hz)))


@njit(cache=True, nogil=True, fastmath={"contract"})
def _steady_kernel(table: Any, phase: Any, step: Any, left: Any, right: Any, gain: Any, out: Any) -> None:
    """Adds a tone of constant pitch, times a gain curve, to out (1 or 2 channels)."""
    size = table.shape[0] - 1
    stereo = out.shape[0] == 2
    for i in range(out.shape[1]):
        p = phase + step * i
        p = (p - np.floor(p)) * size
        k = np.int64(p)
        f = np.float32(p - k)
        v = (table[k] + f * (table[k + 1] - table[k])) * gain[i]
        out[0, i] += left * v
        if stereo:
            out[1, i] += right * v


@njit(cache=True, nogil=True, fastmath={"contract"})
def _moving_kernel(
    tables: Any,
    phase: Any,
    steps: Any,
    ratio: Any,
    lags: Any,
    rungs: Any,
    shift: Any,
    left: Any,
    right: Any,
    gain: Any,
    out: Any,
) -> None:
    """As `_steady_kernel`, with a step and a place on the ladder per frame, and a lag in cycles: one, or one each."""
    lagging = lags.shape[0] > 1
    size = tables.shape[1] - 1
    top = tables.shape[0] - 2  # where it is played with the rung below it
    stereo = out.shape[0] == 2
    p = phase
    for i in range(out.shape[1]):
        p -= np.floor(p)
        q = p - lags[i if lagging else 0]
        q = (q - np.floor(q)) * size
        k = np.int64(q)
        f = np.float32(q - k)
        place = min(max(rungs[i] + shift, np.float32(0.0)), np.float32(top))
        rung = np.int64(place)
        share = np.float32(place - rung)
        a = tables[rung, k] + f * (tables[rung, k + 1] - tables[rung, k])
        b = tables[rung + 1, k] + f * (tables[rung + 1, k + 1] - tables[rung + 1, k])
        v = (a + share * (b - a)) * gain[i]
        out[0, i] += left * v
        if stereo:
            out[1, i] += right * v
        p += steps[i] * ratio


def sides_of(channels: int, pan: float) -> tuple[np.float32, np.float32]:
    """Equal-power gains of both channels; 1 on the left where there is only one."""
    angle = (pan + 1.0) * math.pi / 4.0
    left, right = (math.cos(angle) * math.sqrt(2.0), math.sin(angle) * math.sqrt(2.0))
    return np.float32(1.0 if channels == 1 else left), np.float32(right)


def add_tone(
    out: NDArray[np.float32],
    table: NDArray[np.float32],
    *,
    phase: float,
    frequency_hz: float,
    rate_hz: int,
    pan: float,
    gain: NDArray[np.float32],
) -> None:
    """Adds one copy of a tone of constant pitch to `out`, in place.

    Args:
        out: shape (1 or 2, frames); panning applies to 2 only.
        table: from `cycle_table`.
        phase: where in its cycle it starts, in cycles.
        pan: -1 left to 1 right, equal power.
        gain: per frame, shape (frames,).
    """
    _steady_kernel(table, float(phase), frequency_hz / rate_hz, *sides_of(out.shape[0], pan), gain, out)


class MovingTone:
    """One tone along a pitch that moves: its ladder of tables, and where on it every frame is.

    Args:
        frequencies_hz: of the tone's undetuned copy at each frame, shape (frames,).
        lags: how far behind that it is at each frame, in cycles, shape (frames,).
    """

    def __init__(
        self,
        cycle: Cycle,
        frequencies_hz: NDArray[np.float64],
        rate_hz: int,
        lags: NDArray[np.float64] | None = None,
    ) -> None:
        self._lags = np.zeros(1) if lags is None else lags
        # A lag that moves raises and lowers what is played, as anything does that comes and goes.
        hurry = 0.0 if lags is None else np.abs(np.gradient(lags)) * rate_hz
        fits = 0.499 * rate_hz / (frequencies_hz + hurry)
        # A rung is left for the one below as soon as its highest harmonic comes near: the first is a rung short of all
        # that fits at the lowest pitch, so that a pitch at rest there plays it alone.
        count = min(LONGEST_TABLE // 8, float(np.max(fits))) * 2.0 ** (-1.0 / RUNGS_PER_OCTAVE)
        self._rungs = np.maximum(RUNGS_PER_OCTAVE * np.log2(count / fits) + 1.0, 0.0).astype(np.float32)
        # Room for copies that are detuned upwards, and for the neighbour below.
        needed = math.ceil(float(np.max(self._rungs)) + 1.0) + 2
        self._tables = table_ladder(cycle, int(count), needed, RUNGS_PER_OCTAVE)
        self._steps, self._rate_hz = frequencies_hz / rate_hz, rate_hz

    def add(
        self, out: NDArray[np.float32], *, phase: float, ratio: float, pan: float, gain: NDArray[np.float32]
    ) -> None:
        """Adds a copy, its pitch at a ratio to the track, to `out`, in place."""
        shift = np.float32(RUNGS_PER_OCTAVE * math.log2(ratio))
        sides = sides_of(out.shape[0], pan)
        turning = (float(phase), self._steps, ratio, self._lags)
        _moving_kernel(self._tables, *turning, self._rungs, shift, *sides, gain, out)


class MovingPulse:
    """A pulse whose width moves, along a pitch that may move too.

    Harmonics that are set by hand stay as they are at the width that it begins with.

    Args:
        frequencies_hz: of the tone's undetuned copy at each frame, shape (frames,).
        widths: of the high part at each frame, in cycles, shape (frames,).
    """

    def __init__(
        self,
        widths: NDArray[np.float64],
        levels: Levels,
        frequencies_hz: NDArray[np.float64],
        rate_hz: int,
    ) -> None:
        saw = Cycle("saw", levels=tuple(None if level is None else 0.0 for level in levels))
        rising = MovingTone(saw, frequencies_hz, rate_hz)
        falling = MovingTone(saw, frequencies_hz, rate_hz, widths)
        self._parts = [(rising, 1.0), (falling, -1.0)]
        if any(levels):
            others = [0.0] * (LONGEST_TABLE // 8 - len(levels))
            alone = (*(level or 0.0 for level in levels), *others)
            self._parts.append((MovingTone(Cycle("pulse", float(widths[0]), alone), frequencies_hz, rate_hz), 1.0))

    def add(
        self, out: NDArray[np.float32], *, phase: float, ratio: float, pan: float, gain: NDArray[np.float32]
    ) -> None:
        """Adds a copy, its pitch at a ratio to the track, to `out`, in place."""
        for part, sign in self._parts:
            part.add(out, phase=phase, ratio=ratio, pan=pan, gain=gain * np.float32(sign))


@njit(cache=True, nogil=True, fastmath={"contract"})
def _walk_kernel(
    tables: Any, phase: Any, steps: Any, first: Any, ratio: Any, left: Any, right: Any, gain: Any, out: Any
) -> float:
    """Adds a tone that goes over from the first of two tables to the second; gives the phase where it ends."""
    size = tables.shape[1] - 1
    frames = gain.shape[0]
    stereo, moving = out.shape[0] == 2, steps.shape[0] > 1
    p = phase
    for i in range(frames):
        p -= np.floor(p)
        q = p * size
        k = np.int64(q)
        f = np.float32(q - k)
        share = np.float32(i) / np.float32(frames)
        a = tables[0, k] + f * (tables[0, k + 1] - tables[0, k])
        b = tables[1, k] + f * (tables[1, k + 1] - tables[1, k])
        v = (a + share * (b - a)) * gain[i]
        out[0, first + i] += left * v
        if stereo:
            out[1, first + i] += right * v
        p += steps[first + i if moving else 0] * ratio
    return float(p)


class Walk:
    """The tables of a cycle that changes on its way, made anew every few milliseconds.

    Args:
        cycle: where it stands still.
        ways: the values of it that move, by their names, each at every frame.
        count: how many harmonics it has, from the first to the last of some frames.
    """

    def __init__(
        self,
        cycle: Cycle,
        ways: dict[str, NDArray[np.float64]],
        rate_hz: int,
        count: Callable[[int, int], int],
    ) -> None:
        frames, hop = next(iter(ways.values())).shape[0], max(1, round(WALK_S * rate_hz))
        # Where a value turns sharply, as at the start of a section, it is met exactly.
        turns = [
            np.flatnonzero(np.abs(np.diff(way, 2)) * hop > SHARP_TURN * np.abs(way[1:-1])) + 1 for way in ways.values()
        ]
        self.ends = _apart(np.unique(np.concatenate([np.arange(0, frames, hop), *turns])), max(1, hop // 4), frames)
        self._made = []
        for at in self.ends:
            values: dict[str, Any] = {name: round(float(way[min(at, frames - 1)]), 6) for name, way in ways.items()}
            most = max(1, min(count(max(0, at - hop), at + hop + 1), WALKED_POINTS // POINTS_WALKED))
            self._made.append((replace(cycle, **values), most))

    def pieces(self) -> Iterator[tuple[int, int, NDArray[np.float32]]]:
        """(first frame, end, the tables that it goes over from and to) of each stretch of it."""
        for first, end, before, after in zip(self.ends, self.ends[1:], self._made, self._made[1:], strict=False):
            yield first, end, np.stack([walked_table(*before), walked_table(*after)])


def _apart(places: NDArray[np.int64], least: int, end: int) -> list[int]:
    """Places in order, none nearer to the one before than the least, and the end."""
    found = [0]
    for at in places.tolist():
        if at - found[-1] >= least:
            found.append(at)
    return [*found, end]


class WalkingTone:
    """A tone whose cycle changes on its way: its table position, its sync, its phase distortion, its pulse width.

    Args:
        cycle: where it stands still.
        ways: the values of it that move, by their names, each at every frame.
        frequencies_hz: of the tone's undetuned copy, one number or one per frame.
        highest_ratio: of a copy to that.
    """

    def __init__(
        self,
        cycle: Cycle,
        ways: dict[str, NDArray[np.float64]],
        frequencies_hz: float | NDArray[np.float64],
        rate_hz: int,
        highest_ratio: float = 1.0,
    ) -> None:
        steps = np.atleast_1d(np.asarray(frequencies_hz, np.float64)) / rate_hz
        self._steps = steps

        def fitting(first: int, end: int) -> int:
            around = steps[first:end] if steps.shape[0] > 1 else steps
            return harmonics_below(max(float(np.max(around, initial=0.0)) * highest_ratio, 1e-6), 1)

        self._walk = Walk(cycle, ways, rate_hz, fitting)

    def add(
        self, out: NDArray[np.float32], *, phase: float, ratio: float, pan: float, gain: NDArray[np.float32]
    ) -> None:
        """Adds a copy, its pitch at a ratio to the track, to `out`, in place."""
        sides, p = sides_of(out.shape[0], pan), float(phase)
        for first, end, tables in self._walk.pieces():
            p = _walk_kernel(tables, p, self._steps, first, ratio, *sides, gain[first:end], out)
