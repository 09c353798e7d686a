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
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.curves import merged
from apilado.core.dsp.cycles import LONGEST_TABLE, WALKED_POINTS, Cycle, Levels, table_ladder, walked_table
from apilado.core.dsp.kernels import kernel

RUNGS_PER_OCTAVE = 6
BLOCK = 512
"""Frames over which copies are summed: so many stay in the nearest cache."""
POINTS_WALKED = 32
"""Of a cycle that changes on its way, to each of its harmonics at least."""
SHARP_TURN = 0.05
"""So much of its value would a value miss that turned within a step."""
WALK_S = 0.004
"""A cycle that changes is made anew so often; in between it goes over from one to the next."""


def harmonics_below(frequency_hz: float, rate_hz: int) -> int:
    """How many harmonics of a frequency lie below half the rate, with a hair of margin; at least 0."""
    return max(0, min(LONGEST_TABLE // 8, math.floor(0.499 * rate_hz / frequency_hz)))


class Copies(NamedTuple):
    """The copies of a wave, by what tells them apart; all of shape (copies,)."""

    phases: NDArray[np.float64]
    """Where in its cycle each starts, in cycles."""
    ratios: NDArray[np.float64]
    """Of its frequency to that of the undetuned wave."""
    pans: NDArray[np.float64]
    """-1 left to 1 right, equal power."""


def copies_at(places: Sequence[tuple[float, float, float]]) -> Copies:
    """Copies from (phase, ratio, pan) of each."""
    return Copies(*np.ascontiguousarray(np.array(places, np.float64).reshape(-1, 3).T))


@kernel
def add_raised(sums: Any, gain: Any, out: Any) -> None:
    """Adds sums, each times a gain, to what there is."""
    for i in range(sums.shape[0]):
        out[i] += gain[i] * sums[i]


@kernel
def _steady_kernel(table: Any, phases: Any, steps: Any, lefts: Any, rights: Any, gain: Any, out: Any) -> None:
    """Adds tones of constant pitch, times a gain curve, to out (1 or 2 channels).

    Phases and steps are whole numbers of 2⁻⁶⁴ cycles, which turn over by themselves: the upper bits are the place in
    the table, 24 of those below the way to the next one.
    """
    bits = 0
    while 1 << bits < table.shape[0] - 1:
        bits += 1
    to_place, to_share, mask = np.uint64(64 - bits), np.uint64(40 - bits), np.uint64(0xFFFFFF)
    part, one, stereo = np.float32(2.0**-24), np.uint64(1), out.shape[0] == 2
    on_left, on_right = np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float32)
    for first in range(0, out.shape[1], BLOCK):
        end = min(out.shape[1], first + BLOCK)
        on_left[:], on_right[:] = 0.0, 0.0
        for c in range(phases.shape[0]):
            step, left, right = steps[c], lefts[c], rights[c]
            begins = phases[c] + step * np.uint64(first)
            for i in range(end - first):
                p = begins + step * np.uint64(i)
                k = p >> to_place
                here = table[k]
                v = here + np.float32(np.int32((p >> to_share) & mask)) * part * (table[k + one] - here)
                on_left[i] += left * v
                if stereo:
                    on_right[i] += right * v
        add_raised(on_left[: end - first], gain[first:end], out[0, first:end])
        if stereo:
            add_raised(on_right[: end - first], gain[first:end], out[1, first:end])


@kernel
def find_places(cycles: Any, size: Any, at: Any, ways: Any) -> None:
    """Where in a table of so many points cycles lie: the points before them, and how far it is to the next ones."""
    last = np.int32(size) - np.int32(1)
    for i in range(at.shape[0]):
        q = (cycles[i] - np.floor(cycles[i])) * size
        k = min(np.int32(q), last)  # a hair below a whole cycle is rounded to it
        ways[i] = np.float32(q - np.float64(k))
        at[i] = np.uint32(k)


@kernel
def add_between(
    flat: Any, stride: Any, at: Any, ways: Any, shares: Any, left: Any, right: Any, on_left: Any, on_right: Any
) -> None:
    """Adds what lies at places of one table and of the next one, by each frame's share of it, to both sums.

    Args:
        flat: the tables, one behind another, so many points each.
        at: places in the first table of the two.
        ways: from there to the next point, 0 to 1.
        shares: of the second table, 0 to 1.
    """
    one = np.uint32(1)
    for i in range(at.shape[0]):
        k = at[i]
        other = k + stride
        a = flat[k] + ways[i] * (flat[k + one] - flat[k])
        b = flat[other] + ways[i] * (flat[other + one] - flat[other])
        v = a + shares[i] * (b - a)
        on_left[i] += left * v
        on_right[i] += right * v


@kernel
def _moving_kernel(
    tables: Any,
    turns: Any,
    lags: Any,
    rungs: Any,
    phases: Any,
    ratios: Any,
    shifts: Any,
    lefts: Any,
    rights: Any,
    gain: Any,
    out: Any,
) -> None:
    """As `_steady_kernel`, along cycles gone by and a place on the ladder per frame, and a lag in cycles: one, or one
    each. Places are found before anything is read there: that loop the compiler can run many frames at a time."""
    flat, stride, size = tables.reshape(-1), np.uint32(tables.shape[1]), np.float64(tables.shape[1] - 1)
    lowest, top = np.float32(0.0), np.float32(tables.shape[0] - 2)  # there it is played with the rung below it
    on_left, on_right, lagging = np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float32), lags.shape[0] > 1
    cycles = np.empty(BLOCK)
    at, ways, shares = np.empty(BLOCK, np.uint32), np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float32)
    for first in range(0, out.shape[1], BLOCK):
        end = min(first + BLOCK, out.shape[1])
        count, gone, places = end - first, turns[first:end], rungs[first:end]
        behind = lags[first:end] if lagging else lags
        on_left[:], on_right[:] = 0.0, 0.0
        for c in range(phases.shape[0]):
            phase, ratio, shift = phases[c], ratios[c], shifts[c]
            if lagging:
                for i in range(count):
                    cycles[i] = phase + ratio * gone[i] - behind[i]
            else:
                for i in range(count):
                    cycles[i] = phase + ratio * gone[i] - behind[0]
            find_places(cycles, size, at[:count], ways)
            for i in range(count):
                place = min(max(places[i] + shift, lowest), top)
                rung = np.int32(place)
                shares[i] = place - np.float32(rung)
                at[i] += np.uint32(rung) * stride
            add_between(flat, stride, at[:count], ways, shares, lefts[c], rights[c], on_left, on_right)
        add_raised(on_left[:count], gain[first:end], out[0, first:end])
        if out.shape[0] == 2:
            add_raised(on_right[:count], gain[first:end], out[1, first:end])


def sides_of(channels: int, pan: Any) -> tuple[Any, Any]:
    """Equal-power gains of both channels, of one pan or of many; 1 on the left where there is only one."""
    angle = (np.asarray(pan) + 1.0) * (math.pi / 4.0)
    left = np.cos(angle) * math.sqrt(2.0) if channels == 2 else np.cos(0.0 * angle)
    return left.astype(np.float32), (np.sin(angle) * math.sqrt(2.0)).astype(np.float32)


def in_turns(cycles: NDArray[np.float64]) -> NDArray[np.uint64]:
    """Parts of a cycle as whole numbers of 2⁻⁶⁴ of one."""
    parts = (cycles - np.floor(cycles)) * 2.0**32
    whole = np.floor(parts)
    return (whole.astype(np.uint64) << np.uint64(32)) + ((parts - whole) * 2.0**32).astype(np.uint64)


def add_tone(
    out: NDArray[np.float32],
    table: NDArray[np.float32],
    copies: Copies,
    *,
    frequency_hz: float,
    rate_hz: int,
    gain: NDArray[np.float32],
) -> None:
    """Adds the copies of a tone of constant pitch to `out`, in place.

    Args:
        out: shape (1 or 2, frames); panning applies to 2 only.
        table: from `cycle_table`.
        frequency_hz: of its undetuned copy.
        gain: per frame, shape (frames,).
    """
    turning = (in_turns(copies.phases), in_turns(copies.ratios * (frequency_hz / rate_hz)))
    _steady_kernel(table, *turning, *sides_of(out.shape[0], copies.pans), gain, out)


def gone_by(steps: NDArray[np.float64]) -> NDArray[np.float64]:
    """Cycles that have gone by before each frame, where each takes it a step on. Shape (frames,)."""
    return np.asarray(np.cumsum(steps) - steps)


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
        self.lags = np.zeros(1) if lags is None else lags
        # A lag that moves raises and lowers what is played, as anything does that comes and goes.
        hurry = 0.0 if lags is None else np.abs(np.gradient(lags)) * rate_hz
        fits = 0.499 * rate_hz / (frequencies_hz + hurry)
        # A rung is left for the one below as soon as its highest harmonic comes near: the first is a rung short of all
        # that fits at the lowest pitch, so that a pitch at rest there plays it alone.
        count = min(LONGEST_TABLE // 8, float(np.max(fits))) * 2.0 ** (-1.0 / RUNGS_PER_OCTAVE)
        self.rungs = np.maximum(RUNGS_PER_OCTAVE * np.log2(count / fits) + 1.0, 0.0).astype(np.float32)
        # Room for copies that are detuned upwards, and for the neighbour below.
        needed = math.ceil(float(np.max(self.rungs)) + 1.0) + 2
        self.tables = table_ladder(cycle, int(count), needed, RUNGS_PER_OCTAVE)
        self.turns = gone_by(frequencies_hz / rate_hz)

    def add(self, out: NDArray[np.float32], copies: Copies, *, gain: NDArray[np.float32]) -> None:
        """Adds copies, their pitch at a ratio to the track, to `out`, in place."""
        shifts = (RUNGS_PER_OCTAVE * np.log2(copies.ratios)).astype(np.float32)
        sides = sides_of(out.shape[0], copies.pans)
        along = (self.turns, self.lags, self.rungs)
        _moving_kernel(self.tables, *along, copies.phases, copies.ratios, shifts, *sides, gain, out)


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

    def add(self, out: NDArray[np.float32], copies: Copies, *, gain: NDArray[np.float32]) -> None:
        """Adds copies, their pitch at a ratio to the track, to `out`, in place."""
        for part, sign in self._parts:
            part.add(out, copies, gain=gain * np.float32(sign))


@kernel
def _walk_kernel(
    tables: Any,
    first: int,
    turns: Any,
    phases: Any,
    ratios: Any,
    lefts: Any,
    rights: Any,
    gain: Any,
    out: Any,
) -> None:
    """Adds tones that go over from the first of two tables to the second, over as many frames as there are turns."""
    flat, stride, size = tables.reshape(-1), np.uint32(tables.shape[1]), np.float64(tables.shape[1] - 1)
    frames = turns.shape[0]
    on_left, on_right = np.zeros(frames, np.float32), np.zeros(frames, np.float32)
    at, ways, shares = np.empty(frames, np.uint32), np.empty(frames, np.float32), np.empty(frames, np.float32)
    cycles = np.empty(frames)
    for i in range(frames):
        shares[i] = np.float32(i) / np.float32(frames)
    for c in range(phases.shape[0]):
        phase, ratio = phases[c], ratios[c]
        for i in range(frames):
            cycles[i] = phase + ratio * turns[i]
        find_places(cycles, size, at, ways)
        add_between(flat, stride, at, ways, shares, lefts[c], rights[c], on_left, on_right)
    end = first + frames
    add_raised(on_left, gain[first:end], out[0, first:end])
    if out.shape[0] == 2:
        add_raised(on_right, gain[first:end], out[1, first:end])


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
        self.ends = _apart(merged(np.arange(0, frames, hop), *turns), max(1, hop // 4), frames)
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
        frames = next(iter(ways.values())).shape[0]
        steps = np.atleast_1d(np.asarray(frequencies_hz, np.float64)) / rate_hz
        self._turns = gone_by(np.broadcast_to(steps, frames))

        def fitting(first: int, end: int) -> int:
            around = steps[first:end] if steps.shape[0] > 1 else steps
            return harmonics_below(max(float(np.max(around, initial=0.0)) * highest_ratio, 1e-6), 1)

        self.walk = Walk(cycle, ways, rate_hz, fitting)

    def add(self, out: NDArray[np.float32], copies: Copies, *, gain: NDArray[np.float32]) -> None:
        """Adds copies, their pitch at a ratio to the track, to `out`, in place."""
        sides = sides_of(out.shape[0], copies.pans)
        for first, end, tables in self.walk.pieces():
            turns = self._turns[first:end]
            _walk_kernel(tables, first, turns, copies.phases, copies.ratios, *sides, gain, out)
