"""A bell whose gain moves sample by sample.

A topology-preserving state-variable filter, trapezoidal integrators (V. Zavalishin, "The Art of VA Filter Design",
2012, ch. 4): stable at any speed of movement. As a bell: y = x + k·(A² - 1)·v₁ with k = 1/(Q·A), A = 10^(gain/40); held
still it is the bell of the *Audio EQ Cookbook*.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.curves import Value, greatest, least, mapped, rows
from apilado.core.dsp.equaliser import bell
from apilado.core.dsp.filters import QUIETEST, settle_frames
from apilado.core.dsp.kernels import kernel
from apilado.core.dsp.lead_in import state_that_comes_back, wrapped_tail, wrapped_value


@kernel
def _bell_kernel(x: Any, opened: Any, at: Any, rows: Any, state: Any, y: Any) -> None:
    last = at.shape[0] - 1
    for i in range(at.shape[0]):
        # Gain, Q and place run straight from one knot to the next.
        end = at[i + 1] if i < last else x.shape[1]
        span = max(1, end - at[i])
        scale, q, g = rows[i, 0] * 0.05756462732485115, rows[i, 1], rows[i, 2]  # ln(10)/40
        scale_step, q_step, g_step = 0.0, 0.0, 0.0
        if i < last:
            scale_step = (rows[i + 1, 0] * 0.05756462732485115 - scale) / span
            q_step, g_step = (rows[i + 1, 1] - q) / span, (rows[i + 1, 2] - g) / span
        for n in range(at[i], end):
            a = np.exp(scale * opened[n])
            k = 1.0 / (q * a)
            a1 = 1.0 / (1.0 + g * (g + k))
            a2 = g * a1
            a3 = g * a2
            lift = k * (a * a - 1.0)
            for c in range(x.shape[0]):
                v0 = np.float64(x[c, n]) + 1e-30
                v3 = v0 - state[c, 1]
                v1 = a1 * state[c, 0] + a2 * v3
                v2 = state[c, 1] + a2 * state[c, 0] + a3 * v3
                state[c, 0] = 2.0 * v1 - state[c, 0]
                state[c, 1] = 2.0 * v2 - state[c, 1]
                out = v0 + lift * v1
                y[c, n] = out if abs(out) > QUIETEST else 0.0
            scale += scale_step
            q += q_step
            g += g_step


def moving_bell(
    audio: Audio,
    opened: NDArray[np.float32],
    *,
    frequency_hz: Value,
    gain_db: Value,
    q: Value,
    rate_hz: int,
    looped: bool,
) -> Audio:
    """The audio through a bell that is `opened` by 0 to 1 of its gain (in dB) at each frame; same shape.

    Args:
        opened: shape (frames,).

    Raises:
        ValueError: audio and movement are not equally long.
    """
    if opened.shape != (audio.shape[1],):
        raise ValueError(f"the movement has the shape ({audio.shape[1]},), not {opened.shape}")
    audio = as_audio(audio)
    values = gain_db, q, mapped(frequency_hz, lambda hertz: _g(hertz, rate_hz))
    state = np.zeros((audio.shape[0], 2))
    if looped:
        ahead = settle_frames(bell(least(frequency_hz), greatest(gain_db), greatest(q), rate_hz))
        if ahead <= audio.shape[1]:
            before = wrapped_tail(audio, ahead)
            movement = np.ascontiguousarray(wrapped_tail(opened.reshape(1, -1), ahead)[0])
            behind = rows([wrapped_value(value, ahead) for value in values])
            _bell_kernel(before, movement, *behind, state, np.empty_like(before))
        else:
            _settle(audio, opened, rows(values), state)
    out = np.empty_like(audio)
    _bell_kernel(audio, np.ascontiguousarray(opened), *rows(values), state, out)
    return out


def _g(frequency_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.float64]:
    angle = math.pi * frequency_hz / rate_hz
    # NumPy's own tangent may differ from the C library's in the last bit.
    return np.tan(angle) if np.ndim(angle) else np.asarray(math.tan(angle))


def _settle(
    audio: Audio,
    opened: NDArray[np.float32],
    values: tuple[NDArray[np.int64], NDArray[np.float64]],
    state: NDArray[np.float64],
) -> None:
    """Puts `state`, at rest, where a loop that has gone round for ever begins: the filter moves, and yet is linear."""
    movement, around = np.ascontiguousarray(opened), np.eye(2)
    silence = np.zeros((2, audio.shape[1]), np.float32)
    _bell_kernel(silence, movement, *values, around, np.empty_like(silence))
    _bell_kernel(audio, movement, *values, state, np.empty_like(audio))
    state[:] = state_that_comes_back(around.T, state)
