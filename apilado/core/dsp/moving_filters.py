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
from apilado.core.dsp.filters import QUIETEST, Sections, pole_radius, settle_frames
from apilado.core.dsp.kernels import kernel
from apilado.core.dsp.lead_in import state_that_comes_back, wrapped_curve, wrapped_tail

KNOTS_AT_ONCE = 1024


def state_variable_rows(sections: NDArray[np.float64]) -> NDArray[np.float64]:
    """g, k, m0, m1, m2 of each section: y = m0·x + m1·v1 + m2·v2. Shape as given, (..., 5)."""
    rows = np.empty((sections.size // 5, 5))
    _rows_kernel(np.ascontiguousarray(sections).reshape(-1, 5), rows)
    return rows.reshape(sections.shape)


@kernel
def _rows_kernel(sections: Any, rows: Any) -> None:
    for i in range(sections.shape[0]):
        b0, b1, b2, a1, a2 = sections[i, 0], sections[i, 1], sections[i, 2], sections[i, 3], sections[i, 4]
        up, down = 1.0 + a1 + a2, 1.0 - a1 + a2
        g = np.sqrt(up / down)
        k = 2.0 * (1.0 - a2) / (g * down)
        high, band, low = (b0 - b1 + b2) / down, 2.0 * (b0 - b2) / (g * down), (b0 + b1 + b2) / up
        rows[i, 0], rows[i, 1], rows[i, 2], rows[i, 3], rows[i, 4] = g, k, high, band - high * k, low - high


@kernel
def _moving_kernel(x: Any, at: Any, rows: Any, state: Any, y: Any) -> None:
    """From knot to knot, section by section.

    What an integrator becomes waits for what it was: two channels side by side take no longer than one, and where there
    is one alone it is taken for both.
    """
    other = x.shape[0] - 1
    for i in range(at.shape[0] - 1):
        span = at[i + 1] - at[i]
        for s in range(rows.shape[1]):
            g, k, m0, m1, m2 = rows[i, s, 0], rows[i, s, 1], rows[i, s, 2], rows[i, s, 3], rows[i, s, 4]
            to_g, to_k = (rows[i + 1, s, 0] - g) / span, (rows[i + 1, s, 1] - k) / span
            to_m0, to_m1 = (rows[i + 1, s, 2] - m0) / span, (rows[i + 1, s, 3] - m1) / span
            to_m2 = (rows[i + 1, s, 4] - m2) / span
            p1, p2, q1, q2 = state[0, s, 0], state[0, s, 1], state[other, s, 0], state[other, s, 1]
            for n in range(at[i], at[i + 1]):
                p0 = np.float64(x[0, n]) + 1e-30 if s == 0 else y[0, n]
                q0 = np.float64(x[other, n]) + 1e-30 if s == 0 else y[other, n]
                a1 = 1.0 / (1.0 + g * (g + k))
                p, q = a1 * p1 + g * a1 * (p0 - p2), a1 * q1 + g * a1 * (q0 - q2)
                y[0, n] = m0 * p0 + m1 * p + m2 * (p2 + g * p)
                y[other, n] = m0 * q0 + m1 * q + m2 * (q2 + g * q)
                p1, p2, q1, q2 = 2.0 * p - p1, p2 + 2.0 * g * p, 2.0 * q - q1, q2 + 2.0 * g * q
                g, k, m0, m1, m2 = g + to_g, k + to_k, m0 + to_m0, m1 + to_m1, m2 + to_m2
            state[0, s, 0], state[0, s, 1], state[other, s, 0], state[other, s, 1] = p1, p2, q1, q2


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


@kernel
def _slowest_knot(sections: Any) -> int:
    """The knot at which a pole lies furthest from zero."""
    furthest, knot = -1.0, 0
    for i in range(sections.shape[0]):
        for s in range(sections.shape[1]):
            radius = pole_radius(sections[i, s, 3], sections[i, s, 4])
            if radius > furthest:
                furthest, knot = radius, i
    return knot


def _begin_loop(audio: Audio, at: NDArray[np.int64], sections: Sections, state: NDArray[np.float64]) -> None:
    """Puts `state`, at rest, where a loop that has gone round for ever begins."""
    ahead = settle_frames(sections[_slowest_knot(sections)])
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
