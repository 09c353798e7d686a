"""How a loop begins: in the state that the round before has left.

What forgets quickly is run through the end of the round before. What rings longer than the loop lasts is solved: a
round takes a state s of a linear system to M·s + c, and the state that comes back is s = (1 - M)⁻¹·c.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value


def wrapped_tail(audio: Audio, frames: int) -> Audio:
    """The last `frames` of a loop played round and round, however short the loop is."""
    total = audio.shape[1]
    if frames <= total:
        return np.ascontiguousarray(audio[:, total - frames :])
    index = np.arange(-frames, 0) % total
    return np.ascontiguousarray(audio[:, index])


def wrapped_curve(curve: Curve, frames: int) -> Curve:
    """What a curve does in the last `frames` of a loop played round and round."""
    rounds = -(-frames // curve.frames)
    return curve.stretch(rounds * curve.frames - frames, frames)


def wrapped_value(value: Value, frames: int) -> Value:
    """A value in the last `frames` of a loop: a number is the same there."""
    return wrapped_curve(value, frames) if isinstance(value, Curve) else value


def state_that_comes_back(around: NDArray[np.float64], left: NDArray[np.float64]) -> NDArray[np.float64]:
    """The state in which a linear system begins a loop that has gone round for ever.

    Args:
        around: M, what a silent round makes of each state alone: column k is what becomes of a 1 in place k.
        left: c, what a round leaves of a system that began at rest, shape (channels, states).

    Returns:
        The state of each channel, shape (channels, states).
    """
    unit = np.eye(around.shape[0])
    return np.asarray(np.linalg.solve(unit - around, left.T).T, np.float64)
