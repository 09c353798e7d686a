"""How the forms of a section are joined: each where it holds, with a ramp that ends at the bar line."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.document.forms import FramePlan
from apilado.core.dsp.audio import as_stereo
from apilado.core.dsp.curves import Curve, knots, rows

RAMP_MS = 10.0
"""Before a bar line: on its first beat a section is there in full."""
Span = tuple[int, int, int]
"""(first frame, frame behind the last, number of the form)."""


def spans(plan: FramePlan, clock: Clock, ahead: int = 0) -> list[Span]:
    """Which form holds from where to where in a render, and for so many frames behind its end."""
    ends = [frame for frame, _ in plan[1:]]
    if clock.begins is None:
        last = clock.frames + (0 if clock.looped else ahead)
        return [(first, end, number) for (first, number), end in zip(plan, [*ends, last], strict=True)]
    found, loop = [], clock.loop_frames
    for round_ in range(clock.begins // loop, (clock.begins + clock.frames + ahead) // loop + 1):
        offset = round_ * loop - clock.begins
        found += [(f + offset, e + offset, n) for (f, n), e in zip(plan, [*ends, loop], strict=True)]
    return [span for span in found if span[1] > 0 and span[0] < clock.frames + ahead]


def crossings(plan: FramePlan, clock: Clock, ramp: int) -> list[tuple[int, int, int]]:
    """(frame of a bar line, the form before it, the form behind it) wherever forms meet in a render; round a loop at
    its end."""
    found = spans(plan, clock, ramp)
    meet = [(after[0], before[2], after[2]) for before, after in itertools.pairwise(found) if before[2] != after[2]]
    if clock.looped and found[-1][2] != found[0][2]:
        meet.append((clock.frames, found[-1][2], found[0][2]))
    return meet


def rising(ramp: int) -> NDArray[np.float32]:
    """The share of what comes over the frames of a ramp."""
    return (np.arange(ramp, dtype=np.float32) + np.float32(0.5)) / np.float32(ramp)


def join(*forms: Any, plan: FramePlan, clock: Clock) -> Any:
    """Audio, or gain reductions, each where it holds; None, which is no reduction, for zeros. None where all are."""
    there = [each for each in forms if each is not None]
    if not there:
        return None
    if there[0].ndim > 1 and len({each.shape[0] for each in there}) > 1:
        forms = tuple(as_stereo(each) for each in forms)
    parts = [np.zeros_like(there[0]) if each is None else each for each in forms]
    ramp, out = clock.samples_in_ms(RAMP_MS), np.empty_like(parts[0])
    for first, last, number in spans(plan, clock):
        cut = slice(max(first, 0), min(last, clock.frames))
        out[..., cut] = parts[number][..., cut]
    for frame, before, after in crossings(plan, clock, ramp):
        cut = slice(max(frame - ramp, 0), min(frame, clock.frames))
        share = rising(ramp)[cut.start - (frame - ramp) : cut.stop - (frame - ramp)]
        out[..., cut] = parts[before][..., cut] + share * (parts[after][..., cut] - parts[before][..., cut])
    return out


def shares(plan: FramePlan, number: int, clock: Clock) -> NDArray[np.float32]:
    """How much of one form there is at each frame, 0 to 1."""
    apart: dict[bool, NDArray[np.float32]] = {own: np.full(clock.frames, own, np.float32) for own in (False, True)}
    alone: NDArray[np.float32] = join(
        apart[False], apart[True], plan=tuple((frame, int(each == number)) for frame, each in plan), clock=clock
    )
    return alone


def joined_curves(curves: Sequence[Curve], plan: FramePlan, *, octaves: bool, clock: Clock) -> Curve:
    """The values of curves over a whole loop or a single pass, each where it holds; in octaves where they are
    frequencies."""
    ramp = clock.samples_in_ms(RAMP_MS)
    meet = crossings(plan, clock, ramp)
    corners = np.array([each for frame, _, _ in meet for each in (frame - ramp, frame)], np.int64)
    own, values = rows(curves)
    at = knots(clock.frames, own, corners)
    columns = [np.interp(at, own, values[:, number]) for number in range(len(curves))]
    if octaves:
        columns = [np.log2(column) for column in columns]
    out = np.empty(at.shape[0])
    for first, last, number in spans(plan, clock, 1):
        inside = (at >= first) & (at < last)
        out[inside] = columns[number][inside]
    if clock.begins is None:
        out[-1] = columns[plan[0][1] if clock.looped else plan[-1][1]][-1]
    for frame, before, after in meet:
        inside = (at >= frame - ramp) & (at < frame)
        share = (at[inside] - (frame - ramp)) / ramp
        out[inside] = columns[before][inside] + share * (columns[after][inside] - columns[before][inside])
    return Curve(at, 2.0**out if octaves else out)


def stepped_curve(values: Sequence[tuple[int, float]], *, octaves: bool, clock: Clock) -> Curve:
    """A value that is another from some frames on."""
    levels = list(dict.fromkeys(value for _, value in values))
    still = [Curve(np.array([0, clock.frames]), np.full(2, value)) for value in levels]
    plan = tuple((frame, levels.index(value)) for frame, value in values)
    return joined_curves(still, plan, octaves=octaves, clock=clock)
