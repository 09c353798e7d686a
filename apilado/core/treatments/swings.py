"""What goes to and fro, or round and round, at a speed: a whole number of times in a loop, so that it comes round."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.curves import Curve, Value, knots, knots_within


def turns_in(speed_hz: float, clock: Clock) -> int:
    """How often something turns in a loop: the whole number next to its speed, and once at least."""
    return max(1, round(speed_hz * clock.round_frames / clock.rate_hz))


def sine_swings(speed_hz: float, clock: Clock, *ahead_turns: float) -> list[Curve]:
    """Sines between -1 and 1 over a render, each so many turns ahead of one that begins the loop at 0."""
    if clock.begins is None:
        at = places = knots(clock.frames)
    else:
        at, places = knots_within((clock.begins, clock.frames), clock.loop_frames)
    turned = places * (turns_in(speed_hz, clock) / clock.round_frames)
    return [Curve(at, np.sin(2.0 * np.pi * (turned + ahead))) for ahead in ahead_turns]


def cut_to(value: Value, clock: Clock) -> Value:
    """What a value of the whole loop does in a stretch; itself anywhere else."""
    if clock.begins is None or not isinstance(value, Curve):
        return value
    return value.stretch(clock.begins, clock.frames)


def phase_turns(speed_hz: Value, clock: Clock) -> NDArray[np.float64]:
    """How often something has turned by each frame of a render, shape (frames,): it may turn backwards.

    Args:
        speed_hz: a number, or a curve; of a stretch, the curve of the whole loop. It is changed by as little as makes
            a whole number of turns of a loop.
    """
    frames = clock.around() if clock.begins is not None else np.arange(clock.frames)
    if not isinstance(speed_hz, Curve):
        turns = round(speed_hz * clock.round_frames / clock.rate_hz)
        if speed_hz and not turns:
            turns = 1 if speed_hz > 0.0 else -1
        return np.asarray((frames * turns % clock.round_frames) / clock.round_frames)
    speeds = speed_hz.per_frame() / clock.rate_hz
    if not clock.whole_beats:
        within = float(np.sum(speeds[: clock.loop_frames]))
        speeds += (round(within) - within) / clock.loop_frames
    turned = np.concatenate([[0.0], np.cumsum(speeds[:-1])])
    return np.asarray(turned[frames] if clock.begins is not None else turned)
