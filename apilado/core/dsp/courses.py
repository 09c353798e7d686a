"""The course of a movement: from the frames at which it begins to a value over time.

A course runs through breakpoints, each a place in its length (0 to 1), a value, and a bend towards the next one:
between two of them it is a + (b - a)·u^(4^bend), u from 0 to 1. Where it begins again it goes over from where it was.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.curves import KNOT_FRAMES, Curve, knots, knots_within
from apilado.core.dsp.lead_in import wrapped_curve

RESTART_MS = 4.0
"""A movement that begins again gets there within this time. A jump of its own may fall into it: together they take at
least half of it."""
SAME = 1e-9
POINT_COLUMNS = 3
STEEPEST_SHARE = 0.25
"""Of a very short movement no more than this goes into one jump."""

Breakpoints = NDArray[np.float64]
"""Place, value and bend of each, shape (points, 3); places ascend. With two more columns, the place and the value from
which the line to the next one is drawn: it may be joined only later."""


def without_jumps(points: Breakpoints, shortest: float, *, repeats: bool) -> Breakpoints:
    """Breakpoints in which a jump takes at least a share of the length, also where the end meets the beginning."""
    shortest = min(shortest, STEEPEST_SHARE)
    found = np.hstack([points, points[:, :2]])
    if repeats and abs(found[0, 1] - found[-1, 1]) > SAME:
        # From where it ends to where its course has got to by then: after that it is as it was drawn.
        reached = float(along(points, np.array([shortest]))[0])
        begun = points[np.searchsorted(points[:, 0], shortest, side="right") - 1]
        first = [0.0, found[-1, 1], 0.0, 0.0, found[-1, 1]]
        joins = [shortest, reached, begun[2], begun[0], begun[1]]
        found = np.vstack([first, joins, found[found[:, 0] > shortest]])
    for index in range(1, found.shape[0]):
        least = found[index - 1, 0]
        if abs(found[index, 1] - found[index - 1, 1]) > SAME:
            least += shortest
        if found[index, 0] >= least:
            continue
        upright = found[index, 0] - found[index - 1, 3] <= SAME
        if upright and index + 1 < found.shape[0] and found[index + 1, 0] > least:
            # A jump takes its time, and then joins the line that begins where it was drawn.
            found[index, 1] = along(found[index : index + 2], np.array([least]))[0]
        else:
            found[index, 3] = least
        found[index, 0] = least
    # What was pushed beyond the end is drawn together again.
    last = found[-1, 0]
    if last > 1.0:
        found[:, [0, 3]] /= last
    return found


def along(points: Breakpoints, places: NDArray[np.float64]) -> NDArray[np.float64]:
    """The value of breakpoints at places from 0 to 1; before the first and after the last, theirs."""
    at, values, bends = points.T[:3]
    begun_at, begun = points.T[3:] if points.shape[1] > POINT_COLUMNS else (at, values)
    index = np.clip(np.searchsorted(at, places, side="right") - 1, 0, at.shape[0] - 1)
    after = np.minimum(index + 1, at.shape[0] - 1)
    span = at[after] - begun_at[index]
    share = np.divide(places - begun_at[index], span, out=np.zeros_like(places), where=at[after] > at[index])
    share = np.clip(share, 0.0, 1.0) ** (4.0 ** bends[index])
    found = begun[index] + (values[after] - begun[index]) * share
    return np.asarray(np.where((after == index) | (places < at[0]) | (at[after] <= at[index]), values[index], found))


def course(
    points: Breakpoints,
    starts: Sequence[int],
    factors: Sequence[float],
    *,
    length_frames: float,
    repeats: bool,
    frames: int,
    rate_hz: int,
    looped: bool,
    window: tuple[int, int] | None = None,
) -> Curve:
    """The value over a render of something that runs through breakpoints from each start on.

    Args:
        starts: frames at which it begins, ascending; where there is none it rests at its first point.
        factors: by what it is multiplied from each start on.
        repeats: begins again at its end; else it stops there and holds its last value.
        window: of a loop, (first frame of its endless repetition, frames) to which it is confined.
    """
    if not starts:
        return Curve(np.array([0, frames if window is None else window[1]]), np.full(2, points[0, 1]))
    ramp = max(1, round(RESTART_MS * rate_hz / 1000.0))
    shaped = without_jumps(points, ramp / length_frames, repeats=repeats)
    begins, scale = np.asarray(starts, np.int64), np.asarray(factors)
    corners = _corners(shaped[:, 0], begins, length_frames, frames=frames, repeats=repeats, looped=looped)
    if window is None:
        at = knots(frames, begins, begins + ramp, corners)
    else:
        places, at = knots_within(window, frames, begins, begins + ramp, corners)
    # Each start, and the one before it: round the loop, or, in a single pass, none.
    order = np.searchsorted(begins, at, side="right") - 1
    now = _since(shaped, at, begins, scale, order, length_frames, repeats=repeats, frames=frames, looped=looped)
    before = _since(shaped, at, begins, scale, order - 1, length_frames, repeats=repeats, frames=frames, looped=looped)
    here = np.where(order < 0, begins[order] - frames, begins[order]) if looped else begins[np.maximum(order, 0)]
    share = np.clip((at - here) / ramp, 0.0, 1.0)
    first = order <= 0
    if not looped:
        before, share = np.where(first, now, before), np.where(first, 1.0, share)
    values = before + (now - before) * share
    if window is not None:
        return Curve(places, values)
    if looped:
        values[-1] = values[0]
    return Curve(at, values)


def _corners(
    places: NDArray[np.float64],
    begins: NDArray[np.int64],
    length_frames: float,
    *,
    frames: int,
    repeats: bool,
    looped: bool,
) -> NDArray[np.int64]:
    """The frames on either side of every corner of a course; none where they are as close as the grid of knots."""
    ends = np.append(begins[1:], begins[0] + frames if looped else frames)
    rounds = np.ceil((ends - begins) / length_frames).astype(np.int64) if repeats else np.ones_like(begins)
    if places.shape[0] * int(np.sum(rounds)) > frames // KNOT_FRAMES:
        return np.zeros(0, np.int64)
    starts = np.repeat(begins.astype(np.float64), rounds)
    starts += length_frames * np.concatenate([np.arange(each) for each in rounds])
    found = np.floor(starts[:, None] + places[None] * length_frames).astype(np.int64).ravel()
    found = np.concatenate([found, found + 1])
    return found % frames if looped else found


def _since(
    points: Breakpoints,
    at: NDArray[np.int64],
    begins: NDArray[np.int64],
    scale: NDArray[np.float64],
    order: NDArray[np.int64],
    length_frames: float,
    *,
    repeats: bool,
    frames: int,
    looped: bool,
) -> NDArray[np.float64]:
    """The value at knots, counted from the start of a number; negative numbers are those of the round before."""
    count = begins.shape[0]
    rounds, which = np.divmod(order, count) if looped else (np.zeros_like(order), np.maximum(order, 0))
    elapsed = np.maximum(at - begins[which] - rounds * frames, 0)
    places = elapsed / length_frames
    places = places % 1.0 if repeats else np.minimum(places, 1.0)
    return along(points, places) * scale[which]


def smoothed(curve: Curve, window_frames: int, *, looped: bool) -> Curve:
    """The mean of a curve over the frames before each knot; round a loop, or from what it began with."""
    if window_frames <= 0:
        return curve
    lead = wrapped_curve(curve, window_frames) if looped else None
    at = np.concatenate([[-window_frames] if lead is None else lead.at[:-1] - window_frames, curve.at]).astype(float)
    values = np.concatenate([curve.values[:1] if lead is None else lead.values[:-1], curve.values])
    total = np.concatenate([[0.0], np.cumsum(np.diff(at) * (values[1:] + values[:-1]) / 2.0)])
    mean = (np.interp(curve.at, at, total) - np.interp(curve.at - window_frames, at, total)) / window_frames
    return Curve(curve.at, mean)
