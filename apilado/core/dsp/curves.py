"""Values that move: a curve, and how kernels take it.

A curve has knots at frames and runs straight between them. A kernel takes its values as rows, one for each knot, and
works out what it needs of them inside; a value that stands still is a single row.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.kernels import kernel

KNOT_FRAMES = 16
"""Knots lie at multiples of this many frames, and at the beginnings of notes and hits."""


@kernel
def _draw(at: Any, values: Any, out: Any) -> None:
    """As `numpy.interp` has it: straight between the knots, their ends held; at a jump the value behind it."""
    first = min(max(np.int64(np.ceil(at[0])), 0), out.shape[0])
    out[:first] = values[0]
    for knot in range(at.shape[0] - 1):
        last = min(max(np.int64(np.ceil(at[knot + 1])), first), out.shape[0])
        some = out[first:last]
        if last > first:
            slope = (values[knot + 1] - values[knot]) / (at[knot + 1] - at[knot])
            for n in range(some.shape[0]):
                some[n] = slope * (np.float64(first + n) - at[knot]) + values[knot]
        first = last
    out[first:] = values[-1]


@dataclass(frozen=True, eq=False)
class Curve:
    """A value over the frames of a render: knots, and straight lines between them."""

    at: NDArray[np.int64]
    """Frames of the knots, ascending: the first is 0, the last is the end of the render."""
    values: NDArray[np.float64]
    """The value at each knot; over a loop the last is the first again."""

    @property
    def frames(self) -> int:
        """Length of the render."""
        return int(self.at[-1])

    def per_frame(self) -> NDArray[np.float64]:
        """The value at each frame, shape (frames,)."""
        found = np.empty(self.frames)
        self._draw_into(found)
        return found

    def rounded(self) -> NDArray[np.float32]:
        """The value at each frame as sounds have it, shape (frames,)."""
        found = np.empty(self.frames, np.float32)
        self._draw_into(found)
        return found

    def _draw_into(self, out: NDArray[np.floating]) -> None:
        _draw(np.asarray(self.at, np.float64), np.asarray(self.values, np.float64), out)

    def stretch(self, begins: int, frames: int) -> Curve:
        """What the curve of a loop does in so many frames of its endless repetition from a frame on."""
        rounds = range(begins // self.frames, (begins + frames) // self.frames + 1)
        at = np.concatenate([self.at[:-1] + round_ * self.frames for round_ in rounds])
        values = np.tile(self.values[:-1], len(rounds))
        inside = (at > begins) & (at < begins + frames)
        ends = [np.interp(place % self.frames, self.at, self.values) for place in (begins, begins + frames)]
        return Curve(
            np.concatenate([[0], at[inside] - begins, [frames]]), np.concatenate([ends[:1], values[inside], ends[1:]])
        )


if TYPE_CHECKING:
    Value: TypeAlias = float | Curve
else:
    # A document holds numbers; a part that is rendered may have curves in their places.
    Value = float


def mapped(value: Value, function: Callable[[NDArray[np.float64]], NDArray[np.float64]]) -> Value:
    """A function of a value: of the number, or of every knot."""
    if isinstance(value, Curve):
        return Curve(value.at, function(value.values))
    return float(function(np.asarray(value))[()])


def per_frame(value: Value) -> float | NDArray[np.float32]:
    """The number, or the curve's value at each frame, shape (frames,)."""
    return value.rounded() if isinstance(value, Curve) else value


def pushed(audio: Audio, gain: Value) -> tuple[Audio, float]:
    """(what goes into a curve, the gain that is left to it): a gain that moves is applied before."""
    if isinstance(gain, Curve):
        return audio * gain.rounded(), 1.0
    return audio, gain


def greatest(value: Value) -> float:
    """The number, or the highest that the curve reaches."""
    return float(np.max(value.values)) if isinstance(value, Curve) else value


def at_rest(value: Value) -> Value:
    """The number, also of a curve that never leaves it; else the curve."""
    lowest = least(value)
    return lowest if lowest == greatest(value) else value


def least(value: Value) -> float:
    """The number, or the lowest that the curve reaches."""
    return float(np.min(value.values)) if isinstance(value, Curve) else value


def rows(values: Sequence[Value]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """(frames of the knots, a row of all values at each); one row at frame 0 where nothing moves."""
    curves = [value for value in values if isinstance(value, Curve)]
    at = np.zeros(1, np.int64)
    if curves:
        alike = all(curve.at is curves[0].at for curve in curves)
        at = curves[0].at if alike else merged(*[curve.at for curve in curves])
    found = np.empty((at.shape[0], len(values)))
    for column, value in enumerate(values):
        if isinstance(value, Curve):
            found[:, column] = value.values if value.at is at else np.interp(at, value.at, value.values)
        else:
            found[:, column] = value
    return at, found


def merged(*some: NDArray[np.int64]) -> NDArray[np.int64]:
    """All frames that are among some, ascending, each once.

    The runs in order are merged: where there are few of them that takes a fiftieth of what `numpy.unique` does.
    """
    found = np.sort(np.concatenate(some), kind="stable")
    return found[np.append(True, found[1:] != found[:-1])] if found.shape[0] else found


def knots(frames: int, *others: NDArray[np.int64]) -> NDArray[np.int64]:
    """The frames of a curve's knots over a render: a grid, its end, and `others`, those that lie within it."""
    grid = np.append(np.arange(0, frames, KNOT_FRAMES, dtype=np.int64), frames)
    if not others:
        return grid
    found = merged(grid, *others)
    return found[(found >= 0) & (found <= frames)]


def knots_within(
    window: tuple[int, int], loop: int, *others: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(frames of the knots of a stretch, counted from its first; the same as frames of the loop).

    Those that a curve of the whole loop has there, and the ends of the stretch.

    Args:
        window: (first frame of the endless repetition, frames).
        others: knots within the loop besides the grid's.
    """
    begins, count = window
    found = [np.array([0, count], np.int64)]
    corners = merged(np.zeros(0, np.int64), *others) % loop
    for round_ in range(begins // loop, (begins + count) // loop + 1):
        offset = round_ * loop - begins
        first = max(0, -(offset // KNOT_FRAMES) * KNOT_FRAMES - KNOT_FRAMES)
        last = min(loop, count - offset + 1)
        grid = np.arange(first - first % KNOT_FRAMES, max(last, 0), KNOT_FRAMES, dtype=np.int64)
        found += [grid + offset, corners + offset]
    at = merged(*found)
    at = at[(at >= 0) & (at <= count)]
    return at, (at + begins) % loop
