"""How a loop begins: in the state that the round before has left.

What forgets quickly is run through the end of the round before. What rings longer than the loop lasts is solved: a
round takes a state s of a linear system to M·s + c, and the state that comes back is s = (1 - M)⁻¹·c.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

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


def with_ends(audio: Audio, frames: int, *, looped: bool) -> Audio:
    """A sound with so many frames before it and behind it: of the rounds of a loop, else silence."""
    if not looped:
        return np.pad(audio, ((0, 0), (frames, frames)))
    behind = audio[:, np.arange(frames) % audio.shape[1]]
    return np.concatenate([wrapped_tail(audio, frames), audio, behind], axis=1)


def taken_out(signal: NDArray[np.float32], begin: int, end: int, *, looped: bool) -> NDArray[np.float32]:
    """Frames `begin` to `end` of a signal, shape (…, frames), which may reach out at its ends: into the rounds of a
    loop, else into silence."""
    frames = signal.shape[-1]
    if begin >= 0 and end <= frames:
        return signal[..., begin:end]
    if looped:
        first, rest = begin % frames, end - begin - (frames - begin % frames)
        if rest <= 0:
            return signal[..., first : first + end - begin]
        if rest <= frames:
            return np.concatenate([signal[..., first:], signal[..., :rest]], axis=-1)
        return signal[..., np.arange(begin, end) % frames]
    out = np.zeros((*signal.shape[:-1], end - begin), np.float32)
    first, last = min(max(begin, 0), frames), min(max(end, 0), frames)
    out[..., first - begin : last - begin] = signal[..., first:last]
    return out


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


def led_in(run: Callable[[Audio, Sequence[Value]], Audio], audio: Audio, values: Sequence[Value], ahead: int) -> Audio:
    """A sound through something that remembers, which has gone through so many frames of the rounds before it first.

    Args:
        run: takes a sound and what its values do meanwhile, and goes on from where it was.
    """
    rounds, rest = divmod(ahead, audio.shape[1])
    if rest:
        run(wrapped_tail(audio, rest), tuple(wrapped_value(value, rest) for value in values))
    for _ in range(rounds):
        run(audio, values)
    return run(audio, values)
