"""Cascades of second-order sections: design helpers, the running filter and its response.

A filter is an array of sections, shape (sections, 5): b0 b1 b2 a1 a2, with a0 = 1. All analogue prototypes reach
the digital domain by the bilinear transform, pre-warped so that the named frequency is met exactly.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.breaking_off import pieces
from apilado.core.dsp.kernels import inlined, kernel, summing_kernel
from apilado.core.dsp.lead_in import state_that_comes_back, wrapped_tail

Sections = NDArray[np.float64]
Knots = float | NDArray[np.float64]
"""A value of a filter: a number, or what it is at each knot of a movement, shape (knots,)."""

NO_SECTIONS: Sections = np.zeros((0, 5))
SETTLED = 1e-8
"""A filter's memory counts as gone when it has decayed to this share."""
SLOWEST_POLE = 1.0 - 1e-9
BLOCK = 512
"""Frames that are worked on at a time: so many stay in the nearest cache."""
QUIETEST = 1e-15
"""-300 dB: below it the output of a filter is zero."""


def analogue_section(
    numerator: tuple[Knots, Knots, Knots],
    denominator: tuple[Knots, Knots, Knots],
    frequency_hz: Knots,
    rate_hz: int,
) -> Sections:
    """One section from H(s) = (n2 s² + n1 s + n0)/(d2 s² + d1 s + d0), s in units of `frequency_hz`.

    Bilinear transform s → (1 - z⁻¹)/(1 + z⁻¹) / tan(π f / rate). Shape (1, 5); (knots, 1, 5) where a value is an array.
    """
    n2, n1, n0 = numerator
    d2, d1, d0 = denominator
    c = 1.0 / _tan(math.pi * frequency_hz / rate_hz)
    return _as_section(
        (
            n2 * c * c + n1 * c + n0,
            2.0 * (n0 - n2 * c * c),
            n2 * c * c - n1 * c + n0,
            2.0 * (d0 - d2 * c * c),
            d2 * c * c - d1 * c + d0,
        ),
        d2 * c * c + d1 * c + d0,
    )


def _tan(angle: Knots) -> Knots:
    # NumPy's own tangent may differ from the C library's in the last bit.
    return np.tan(angle) if isinstance(angle, np.ndarray) else math.tan(angle)


def _as_section(coefficients: tuple[Knots, ...], a0: Knots) -> Sections:
    """Coefficients over a0 as a section of a cascade."""
    if not any(isinstance(each, np.ndarray) for each in (*coefficients, a0)):
        return np.array([[each / a0 for each in coefficients]])
    together = np.broadcast_arrays(*coefficients)
    return np.asarray(np.stack(together, axis=-1) / np.asarray(a0)[..., None])[..., None, :]


def in_cascade(*parts: Sections) -> Sections:
    """Sections in a row, of the same number of knots or of none."""
    return np.concatenate(parts, axis=-2)


def first_order_section(
    numerator: tuple[Knots, Knots], denominator: tuple[Knots, Knots], frequency_hz: Knots, rate_hz: int
) -> Sections:
    """One section from H(s) = (n1 s + n0)/(d1 s + d0), by the same transform. Shape (1, 5) or (knots, 1, 5)."""
    (n1, n0), (d1, d0) = numerator, denominator
    c = 1.0 / _tan(math.pi * frequency_hz / rate_hz)
    return _as_section((n1 * c + n0, n0 - n1 * c, 0.0, d0 - d1 * c, 0.0), d1 * c + d0)


def butterworth_qs(order: int) -> tuple[float, ...]:
    """Q of each second-order section of a Butterworth filter: 1 / (2 cos θ); an odd order has a first-order one too."""
    if order % 2:
        return tuple(1.0 / (2.0 * math.cos(math.pi * k / order)) for k in range(1, order // 2 + 1))
    return tuple(1.0 / (2.0 * math.cos(math.pi * (2 * k + 1) / (2 * order))) for k in range(order // 2))


def low_pass(frequency_hz: Knots, q: Knots, rate_hz: int) -> Sections:
    """Second-order low-pass 1/(s² + s/Q + 1)."""
    return analogue_section((0.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0), frequency_hz, rate_hz)


def high_pass(frequency_hz: Knots, q: Knots, rate_hz: int) -> Sections:
    """Second-order high-pass s²/(s² + s/Q + 1)."""
    return analogue_section((1.0, 0.0, 0.0), (1.0, 1.0 / q, 1.0), frequency_hz, rate_hz)


DC_BLOCKER_HZ = 3.0


DC_KNOWN_S = 0.1
DC_MEMORY_S = 0.3
"""Begun midway, what is left of a wrong beginning after this is under -60 dB."""


def dc_blocker(rate_hz: int) -> Sections:
    """First-order high-pass s/(s + 1) at 3 Hz: no DC, and 4° at 45 Hz."""
    return first_order_section((1.0, 0.0), (1.0, 1.0), DC_BLOCKER_HZ, rate_hz)


def sections_response(sections: Sections, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
    """Complex response of a cascade at each frequency."""
    z = np.exp(-2j * np.pi * frequencies_hz / rate_hz)
    response = np.ones(frequencies_hz.shape, dtype=np.complex128)
    for b0, b1, b2, a1, a2 in sections:
        response *= (b0 + z * (b1 + z * b2)) / (1.0 + z * (a1 + z * a2))
    return response


@kernel
def pole_radius(a1: float, a2: float) -> float:
    """How far from the middle the outer root of z² + a1·z + a2 lies."""
    under = a1 * a1 - 4.0 * a2
    return math.sqrt(a2) if under < 0.0 else 0.5 * (abs(a1) + math.sqrt(under))


HEARD_OF_A_TAIL = 0.45
"""Of the time in which a cascade decays below `SETTLED`, that until what is left lies under -70 dB."""


def settle_frames(sections: Sections) -> int:
    """Frames after which the memory of a cascade has decayed below `SETTLED`, from its slowest pole."""
    if len(sections) == 0:
        return 0
    slowest = max(pole_radius(float(a1), float(a2)) for *_, a1, a2 in sections)
    if slowest <= 1e-6:
        return 64
    # Equal poles in several sections decay as t·e^(-t): half as much again, and some, covers them.
    return int(1.6 * math.log(SETTLED) / math.log(min(slowest, SLOWEST_POLE))) + 64


HEARD_DB = -66.0


def heard_frames(sections: Sections) -> int:
    """Frames after which all that a cascade was given before is heard of it at under `HEARD_DB`, however it was.

    What its impulse response still has to come, added up by magnitude, is the most that can be.
    """
    return _heard_frames(sections.tobytes()) if len(sections) else 0


@lru_cache(maxsize=1024)
def _heard_frames(values: bytes) -> int:
    sections = np.frombuffer(values).reshape(-1, 5).copy()
    impulse = np.zeros((1, math.ceil(HEARD_OF_A_TAIL * settle_frames(sections))), np.float32)
    impulse[0, 0] = 1.0
    response, _ = run_sections(impulse, sections)
    to_come = np.cumsum(np.abs(response[0, ::-1]), dtype=np.float64)
    return int(np.count_nonzero(to_come > 10.0 ** (HEARD_DB / 20.0)))


@kernel
def _widened(narrow: Any, wide: Any) -> None:
    for i in range(wide.shape[0]):
        wide[i] = np.float64(narrow[i]) + 1e-30  # keeps decaying memories out of the denormal range


@kernel
def _narrowed(wide: Any, narrow: Any) -> None:
    for i in range(wide.shape[0]):
        # What has died away is silence: its products in later stages would be denormal numbers.
        narrow[i] = wide[i] if abs(wide[i]) > QUIETEST else 0.0


@kernel
def _fed_forward(section: Any, state: Any, x: Any, out: Any) -> None:
    """What a section makes of its input alone, and the input's part of the state after it."""
    b0, b1, b2, last = section[0], section[1], section[2], x.shape[0] - 1
    out[0] = b0 * x[0] + state[0]
    if last > 0:
        out[1] = b0 * x[1] + b1 * x[0] + state[1]
    before, now, later = x[1:], x[2:], out[2:]
    for i in range(last - 1):
        later[i] = b0 * now[i] + b1 * before[i] + b2 * x[i]
    state[0] = b1 * x[last] + (b2 * x[last - 1] if last > 0 else state[1])
    state[1] = b2 * x[last]


@inlined
def _through(x: Any, first: int, last: int, sections: Any, state: Any, left: Any, right: Any) -> Any:
    """What a cascade makes of a short block, section by section: one channel or both, in rooms of two rows.

    What comes back of the output can only be added one frame after another: that of two channels side by side takes no
    longer than that of one. The state is that of the transposed direct form II.
    """
    both, count = x.shape[0] == 2, last - first
    one, one_fed, other, other_fed = left[0, :count], left[1, :count], right[0, :count], right[1, :count]
    _widened(x[0, first:last], one)
    if both:
        _widened(x[1, first:last], other)
    for s in range(sections.shape[0]):
        a1, a2 = sections[s, 3], sections[s, 4]
        p1, p2, q1, q2 = 0.0, 0.0, 0.0, 0.0
        _fed_forward(sections[s], state[0, s], one, one_fed)
        if both:
            _fed_forward(sections[s], state[1, s], other, other_fed)
            for i in range(one.shape[0]):
                p = (one_fed[i] - a2 * p2) - a1 * p1
                q = (other_fed[i] - a2 * q2) - a1 * q1
                one[i], other[i] = p, q
                p1, p2, q1, q2 = p, p1, q, q1
            state[1, s, 0] -= a1 * q1 + a2 * q2
            state[1, s, 1] -= a2 * q1
        else:
            for i in range(one.shape[0]):
                p = (one_fed[i] - a2 * p2) - a1 * p1
                one[i] = p
                p1, p2 = p, p1
        state[0, s, 0] -= a1 * p1 + a2 * p2
        state[0, s, 1] -= a2 * p1
    return one, other


@kernel
def _cascade_kernel(x: Any, sections: Any, state: Any, y: Any, begin: int, end: int) -> None:
    """From one frame to before another, in short blocks."""
    left, right = np.empty((2, BLOCK)), np.empty((2, BLOCK))
    for first in range(begin, end, BLOCK):
        last = min(first + BLOCK, end)
        one, other = _through(x, first, last, sections, state, left, right)
        _narrowed(one, y[0, first:last])
        if x.shape[0] == 2:
            _narrowed(other, y[1, first:last])


@kernel
def _squares_kernel(x: Any, sections: Any, state: Any, begin: int, end: int) -> float:
    """As `_cascade_kernel`, but what comes out is squared and added up, all channels together."""
    left, right, total = np.empty((2, BLOCK)), np.empty((2, BLOCK)), 0.0
    for first in range(begin, end, BLOCK):
        one, other = _through(x, first, min(first + BLOCK, end), sections, state, left, right)
        total += _sum_of_squares(one)
        if x.shape[0] == 2:
            total += _sum_of_squares(other)
    return total


@summing_kernel
def _sum_of_squares(values: Any) -> float:
    total = 0.0
    for i in range(values.shape[0]):
        total += values[i] * values[i]
    return total


def run_sections(
    audio: Audio, sections: Sections, state: NDArray[np.float64] | None = None, *, in_place: bool = False
) -> tuple[Audio, NDArray[np.float64]]:
    """Runs a cascade (float64, the state that of the transposed direct form II) over the audio.

    Args:
        audio: shape (channels, frames).
        sections: shape (sections, 5).
        state: shape (channels, sections, 2) as returned by the run before; silence if None.
        in_place: the audio is nobody else's, and may be written over.

    Returns:
        The filtered audio and the state after its last frame.
    """
    audio = as_audio(audio)
    shape = (audio.shape[0], len(sections), 2)
    if state is None:
        state = np.zeros(shape)
    elif state.shape != shape:
        raise ValueError(f"the state of this filter has the shape {shape}; this has {state.shape}")
    else:
        state = state.copy()
    out = audio if in_place else np.empty_like(audio)
    sections = np.ascontiguousarray(sections)
    for begin, end in pieces(audio.shape[1]):
        _cascade_kernel(audio, sections, state, out, begin, end)
    return out, state


def power_behind(audio: Audio, sections: Sections) -> float:
    """The mean over the frames of a loop of the squares of what a cascade makes of it, all channels together."""
    state, sections, total = loop_state(audio, sections), np.ascontiguousarray(sections), 0.0
    audio = as_audio(audio)
    for begin, end in pieces(audio.shape[1]):
        total += _squares_kernel(audio, sections, state, begin, end)
    return float(total / audio.shape[1])


def filtered(audio: Audio, sections: Sections, *, looped: bool, in_place: bool = False) -> Audio:
    """The whole signal through a cascade: from silence, or as a loop in its steady state.

    Args:
        in_place: the audio is nobody else's, and may be written over.
    """
    if len(sections) == 0:
        return audio
    return run_sections(audio, sections, loop_state(audio, sections) if looped else None, in_place=in_place)[0]


def loop_state(audio: Audio, sections: Sections) -> NDArray[np.float64]:
    """The state in which a cascade begins a loop: what the round before has left; shape (channels, sections, 2)."""
    ahead = settle_frames(sections)
    if ahead <= audio.shape[1]:
        return run_sections(wrapped_tail(audio, ahead), sections)[1]
    return periodic_state(audio, sections)


def without_dc(audio: Audio, rate_hz: int, *, looped: bool, midway: bool = False) -> Audio:
    """The audio without DC; it is written over.

    Args:
        midway: it begins in the middle of something: what it is about then is taken for what it had been about.
    """
    if midway:
        start = audio[:, : max(1, round(DC_KNOWN_S * rate_hz))]
        audio -= np.mean(start, axis=1, keepdims=True, dtype=np.float64).astype(np.float32)
    return filtered(audio, dc_blocker(rate_hz), looped=looped, in_place=True)


def periodic_state(audio: Audio, sections: Sections) -> NDArray[np.float64]:
    """The state in which a cascade begins a loop that has gone round for ever; shape (channels, sections, 2).

    A round is Aⁿ: A is what one silent frame makes of a state, n the frames of the loop.
    """
    count = 2 * len(sections)
    unit = np.eye(count).reshape(count, len(sections), 2)
    step = np.array([run_sections(np.zeros((1, 1), np.float32), sections, state[None])[1].ravel() for state in unit]).T
    around = np.linalg.matrix_power(step, audio.shape[1])
    _, left = run_sections(audio, sections)
    return state_that_comes_back(around, left.reshape(audio.shape[0], count)).reshape(left.shape)
