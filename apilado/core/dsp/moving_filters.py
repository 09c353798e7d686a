"""Filters whose coefficients move: any cascade of second-order sections, stable at any speed of movement.

Topology-preserving state-variable filters with trapezoidal integrators (V. Zavalishin, "The Art of VA Filter Design",
2012, ch. 4). A section b0 b1 b2 a1 a2 is, held still, the same filter with

    g² = (1 + a1 + a2)/(1 - a1 + a2),   k = 2(1 - a2)/(g(1 - a1 + a2)),
    y = h2·HP + h1·BP + h0·LP,   h2 = (b0 - b1 + b2)/(1 - a1 + a2),   h1 = 2(b0 - b2)/(g(1 - a1 + a2)),
    h0 = (b0 + b1 + b2)/(1 + a1 + a2),

which is the bilinear transform read backwards.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.breaking_off import pieces
from apilado.core.dsp.curves import Curve
from apilado.core.dsp.filters import QUIETEST, Sections, settle_frames
from apilado.core.dsp.kernels import kernel
from apilado.core.dsp.lead_in import state_that_comes_back, wrapped_curve, wrapped_tail

KNOTS_AT_ONCE = 1024


def state_variable_rows(sections: NDArray[np.float64]) -> NDArray[np.float64]:
    """g, k, m0, m1, m2 of each section: y = m0·x + m1·v1 + m2·v2. Shape as given, (..., 5)."""
    b0, b1, b2, a1, a2 = np.moveaxis(sections, -1, 0)
    up, down = 1.0 + a1 + a2, 1.0 - a1 + a2
    g = np.sqrt(up / down)
    k = 2.0 * (1.0 - a2) / (g * down)
    high, band, low = (b0 - b1 + b2) / down, 2.0 * (b0 - b2) / (g * down), (b0 + b1 + b2) / up
    return np.stack([g, k, high, band - high * k, low - high], axis=-1)


@kernel
def _moving_kernel(x: Any, at: Any, rows: Any, state: Any, y: Any) -> None:
    count = rows.shape[1]
    now, step = np.empty((count, 5)), np.empty((count, 5))
    for i in range(at.shape[0] - 1):
        span = at[i + 1] - at[i]
        for s in range(count):
            for p in range(5):
                now[s, p] = rows[i, s, p]
                step[s, p] = (rows[i + 1, s, p] - rows[i, s, p]) / span
        for n in range(at[i], at[i + 1]):
            for s in range(count):
                g, k = now[s, 0], now[s, 1]
                a1 = 1.0 / (1.0 + g * (g + k))
                for c in range(x.shape[0]):
                    v0 = np.float64(x[c, n]) + 1e-30 if s == 0 else y[c, n]
                    v3 = v0 - state[c, s, 1]
                    v1 = a1 * (state[c, s, 0] + g * v3)
                    v2 = state[c, s, 1] + g * v1
                    state[c, s, 0] = 2.0 * v1 - state[c, s, 0]
                    state[c, s, 1] = 2.0 * v2 - state[c, s, 1]
                    y[c, n] = now[s, 2] * v0 + now[s, 3] * v1 + now[s, 4] * v2
                for p in range(5):
                    now[s, p] += step[s, p]


def run_moving(
    audio: Audio, at: NDArray[np.int64], rows: NDArray[np.float64], state: NDArray[np.float64]
) -> NDArray[np.float64]:
    """The audio through a moving cascade from a state, which is left as it is afterwards; float64, same shape.

    Args:
        audio: shape (channels, frames).
        at: frames of the knots, the last at the end; shape (knots,).
        rows: from `state_variable_rows`, shape (knots, sections, 5).
        state: shape (channels, sections, 2), changed in place.
    """
    out = np.empty(audio.shape)
    _moving_kernel(audio, at, np.ascontiguousarray(rows), state, out)
    return out


def moving_filtered(audio: Audio, at: NDArray[np.int64], sections: Sections, *, looped: bool) -> Audio:
    """The audio through a cascade whose sections move; from silence, or as a loop that has gone round for ever.

    Args:
        audio: shape (channels, frames).
        at: frames of the knots, the first 0, the last the end; shape (knots,).
        sections: shape (knots, sections, 5).

    Raises:
        ValueError: knots and sections do not belong together, or do not end with the audio.
    """
    audio = as_audio(audio)
    if at.shape[0] != sections.shape[0] or at[0] != 0 or at[-1] != audio.shape[1]:
        raise ValueError(f"{at.shape[0]} knots up to {at[-1]} do not fit {sections.shape[0]} rows and {audio.shape[1]}")
    if sections.shape[1] == 0:
        return audio
    state = np.zeros((audio.shape[0], sections.shape[1], 2))
    if looped:
        _begin_loop(audio, at, sections, state)
    out = np.empty_like(audio)
    for first, last in pieces(at.shape[0] - 1, KNOTS_AT_ONCE):  # in 64 bits, but never all of it
        some = slice(first, last + 1)
        begins, ends = at[some][0], at[some][-1]
        rows = state_variable_rows(sections[some])
        part = run_moving(np.ascontiguousarray(audio[:, begins:ends]), at[some] - begins, rows, state)
        part[np.abs(part) <= QUIETEST] = 0.0
        out[:, begins:ends] = part
    return out


def some_at_a_time(make: Callable[..., Sections], *values: NDArray[np.float64]) -> Sections:
    """What is made of the values at each knot, some knots at a time: nothing as long as a sound is worked with.

    Args:
        make: takes values of some knots, each of shape (knots,), and gives their sections.
    """
    found = make(*[value[:KNOTS_AT_ONCE] for value in values])
    knots = values[0].shape[0]
    if knots <= KNOTS_AT_ONCE:
        return found
    out = np.empty((knots, *found.shape[1:]))
    for first, last in pieces(knots, KNOTS_AT_ONCE):
        some = slice(first, last)
        out[some] = make(*[value[some] for value in values])
    return out


def _longest_radius(sections: Sections) -> tuple[float, int]:
    """(how far from zero a pole lies, at which knot), of the one that lies furthest."""
    a1, a2 = sections[..., 3], sections[..., 4]
    apart = np.sqrt(np.maximum(a1 * a1 - 4.0 * a2, 0.0))
    radii = np.where(apart > 0.0, (np.abs(a1) + apart) / 2.0, np.sqrt(np.maximum(a2, 0.0)))
    furthest = np.max(radii, axis=1)
    knot = int(np.argmax(furthest))
    return float(furthest[knot]), knot


def _slowest(sections: Sections) -> Sections:
    """The sections at the knot at which one rings longest."""
    starts = range(0, sections.shape[0], KNOTS_AT_ONCE)
    found = [(_longest_radius(sections[first : first + KNOTS_AT_ONCE]), first) for first in starts]
    (_, knot), first = max(found, key=lambda each: each[0][0])
    return np.asarray(sections[first + knot])


def _begin_loop(audio: Audio, at: NDArray[np.int64], sections: Sections, state: NDArray[np.float64]) -> None:
    """Puts `state`, at rest, where a loop that has gone round for ever begins."""
    ahead = settle_frames(_slowest(sections))
    if ahead <= audio.shape[1]:
        # Where the loop begins, and from the knot on before which its last `ahead` frames begin.
        last = max(1, int(np.searchsorted(at, audio.shape[1] - ahead, side="right")) - 1)
        some = np.concatenate([[0], np.arange(last, at.shape[0])])
        rows = state_variable_rows(sections[some])
        curves = [wrapped_curve(Curve(at[some], column), ahead) for column in rows.reshape(rows.shape[0], -1).T]
        before = np.stack([curve.values for curve in curves], axis=1).reshape(-1, *rows.shape[1:])
        run_moving(wrapped_tail(audio, ahead), curves[0].at, before, state)
        return
    rows = state_variable_rows(sections)
    # It moves, and yet it is linear in what is in it.
    count = 2 * rows.shape[1]
    around = np.eye(count).reshape(count, rows.shape[1], 2)
    silence = np.zeros((1, audio.shape[1]), np.float32)
    for each in around:
        run_moving(silence, at, rows, each[None])
    run_moving(audio, at, rows, state)
    found = state_that_comes_back(around.reshape(count, count).T, state.reshape(-1, count))
    state[:] = found.reshape(state.shape)
