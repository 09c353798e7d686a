"""Memoryless nonlinearities: sample in, sample out, any shape."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.kernels import free_kernel, inlined, kernel

NEAR = 1e-4
"""Neighbours that lie nearer have the value in their middle for their mean."""


@free_kernel
def _soft_clip_kernel(x: Any, gain: Any, y: Any) -> None:
    for i in range(x.shape[0]):
        v = gain * x[i]
        y[i] = v / np.sqrt(np.float32(1.0) + v * v)


def soft_clip(x: NDArray[np.float32], gain: float) -> NDArray[np.float32]:
    """Smooth odd saturation y = g·x / √(1 + (g·x)²): slope g at zero, limit ±1.

    Its harmonics fall off exponentially (the branch points lie at g·x = ±i), which keeps aliasing low.
    """
    flat = np.ascontiguousarray(x, dtype=np.float32).reshape(-1)
    out = np.empty_like(flat)
    _soft_clip_kernel(flat, np.float32(gain), out)
    return out.reshape(x.shape)


@free_kernel
def _soft_clip_between_kernel(even: Any, odd: Any, gain: Any, roots: Any, after_even: Any, after_odd: Any) -> None:
    one = np.float32(1.0)
    frames = even.shape[0]
    for n in range(frames):
        a = gain * even[n]
        b = gain * odd[n]
        roots[n] = np.sqrt(one + a * a)
        after_odd[n] = np.sqrt(one + b * b)
        after_even[n] = (a + b) / (roots[n] + after_odd[n])
    for n in range(frames - 1):
        after_odd[n] = gain * (odd[n] + even[n + 1]) / (after_odd[n] + roots[n + 1])
    after_odd[frames - 1] = 0.0


def soft_clip_between(planes: NDArray[np.float32], gain: float) -> NDArray[np.float32]:
    """The mean of `soft_clip` along the straight line from each sample to the next; same shape.

    Its integral is F(v) = √(1 + v²), and (F(b) - F(a))/(b - a) = (a + b)/(F(a) + F(b)), which needs no special case
    where neighbours are equal and loses no digits.

    Args:
        planes: even and odd samples, shape (2, frames); what lies after the last odd one is 0.
    """
    out = np.empty_like(planes)
    roots = np.empty(planes.shape[1], np.float32)
    _soft_clip_between_kernel(planes[0], planes[1], np.float32(gain), roots, out[0], out[1])
    return out


@free_kernel
def _saturation_kernel(x: Any, drive: Any, bias: Any, rest: Any, scale: Any, y: Any) -> None:
    for i in range(x.shape[0]):
        y[i] = (np.tanh(drive * x[i] + bias) - rest) * scale


def saturated(x: NDArray[np.float32], drive: float, bias: float) -> NDArray[np.float32]:
    """y = (tanh(g·x + b) - tanh b)/(g·(1 - tanh² b)): slope 1 at zero, squeezed as g·x grows, asymmetric by b."""
    rest = math.tanh(bias)
    scale = 1.0 / (drive * (1.0 - rest * rest))
    flat = np.ascontiguousarray(x, dtype=np.float32).reshape(-1)
    out = np.empty_like(flat)
    _saturation_kernel(flat, np.float32(drive), np.float32(bias), np.float32(rest), np.float32(scale), out)
    return out.reshape(x.shape)


@kernel
def _saturation_between_kernel(
    even: Any, odd: Any, drive: float, bias: float, rest: float, scale: float, after_even: Any, after_odd: Any
) -> None:
    frames = even.shape[0]
    before, at = 0.0, 0.0
    for n in range(2 * frames):
        v = drive * np.float64(even[n >> 1] if n & 1 == 0 else odd[n >> 1]) + bias
        size = abs(v)
        integral = size + math.log1p(math.exp(-2.0 * size))  # ln cosh v, but for a constant
        if n:
            apart = v - at
            mean = (integral - before) / apart if abs(apart) > NEAR else math.tanh(0.5 * (v + at))
            if n & 1:
                after_even[n >> 1] = (mean - rest) * scale
            else:
                after_odd[(n >> 1) - 1] = (mean - rest) * scale
        before, at = integral, v
    after_odd[frames - 1] = 0.0


def saturated_between(planes: NDArray[np.float32], drive: float, bias: float) -> NDArray[np.float32]:
    """The mean of `saturated` along the straight line from each sample to the next, its integral being ln cosh.

    Args:
        planes: even and odd samples, shape (2, frames); what lies after the last odd one is 0.
    """
    rest = math.tanh(bias)
    scale = 1.0 / (drive * (1.0 - rest * rest))
    out = np.empty_like(planes)
    _saturation_between_kernel(planes[0], planes[1], float(drive), float(bias), rest, scale, out[0], out[1])
    return out


CLIP, ROUND_FOLD, SHARP_FOLD, FULL_WAVE, HALF_WAVE = range(5)
"""Curves that are read by one kernel: clipped at ±1; folded back as a sine or as a triangle; rectified."""


@inlined
def _curve(v: float, kind: int) -> float:
    if kind == CLIP:
        return min(1.0, max(-1.0, v))
    if kind == ROUND_FOLD:
        return math.sin(0.5 * math.pi * v)
    if kind == SHARP_FOLD:
        u = (v + 1.0) % 4.0 - 1.0
        return u if u <= 1.0 else 2.0 - u
    return abs(v) if kind == FULL_WAVE else max(0.0, v)


@inlined
def _integral(v: float, kind: int) -> float:
    if kind == CLIP:
        return 0.5 * v * v if abs(v) <= 1.0 else abs(v) - 0.5
    if kind == ROUND_FOLD:
        return -2.0 / math.pi * math.cos(0.5 * math.pi * v)
    if kind == SHARP_FOLD:
        u = (v + 1.0) % 4.0 - 1.0
        return 0.5 * u * u if u <= 1.0 else 1.0 - 0.5 * (2.0 - u) * (2.0 - u)
    if kind == FULL_WAVE:
        return 0.5 * v * abs(v)
    return 0.5 * max(0.0, v) * v


@inlined
def _mean(a: float, b: float, kind: int) -> float:
    """The mean of a curve along the straight line from one value to another."""
    apart = b - a
    if abs(apart) < NEAR:
        return _curve(0.5 * (a + b), kind)
    return (_integral(b, kind) - _integral(a, kind)) / apart


@kernel
def _bent_kernel(x: Any, gain: float, kind: int, y: Any) -> None:
    for i in range(x.shape[0]):
        y[i] = _curve(gain * x[i], kind)


@kernel
def _bent_between_kernel(even: Any, odd: Any, gain: float, kind: int, after_even: Any, after_odd: Any) -> None:
    frames = even.shape[0]
    for n in range(frames):
        after_even[n] = _mean(gain * even[n], gain * odd[n], kind)
    for n in range(frames - 1):
        after_odd[n] = _mean(gain * odd[n], gain * even[n + 1], kind)
    after_odd[frames - 1] = 0.0


def bent(x: NDArray[np.float32], gain: float, kind: int) -> NDArray[np.float32]:
    """One of the curves above, of g·x; any shape."""
    if kind == CLIP:
        return np.asarray(np.clip(x * np.float32(gain), np.float32(-1.0), np.float32(1.0)))
    flat = np.ascontiguousarray(x, dtype=np.float32).reshape(-1)
    out = np.empty_like(flat)
    _bent_kernel(flat, float(gain), kind, out)
    return out.reshape(x.shape)


def bent_between(planes: NDArray[np.float32], gain: float, kind: int) -> NDArray[np.float32]:
    """The mean of one of the curves along the straight line from each sample to the next; same shape.

    Args:
        planes: even and odd samples, shape (2, frames); what lies after the last odd one is 0.
    """
    out = np.empty_like(planes)
    _bent_between_kernel(planes[0], planes[1], float(gain), kind, out[0], out[1])
    return out


@kernel
def _quantise_kernel(x: Any, steps: Any, y: Any) -> None:
    moving, one = steps.shape[0] > 1, np.float32(1.0)
    for c in range(x.shape[0]):
        for n in range(x.shape[1]):
            step = steps[n] if moving else steps[0]
            y[c, n] = min(one, max(-one, np.rint(x[c, n] * step) / step))


def quantised(x: NDArray[np.float32], steps: float | NDArray[np.float32]) -> NDArray[np.float32]:
    """Rounded to whole parts of 1/steps and held within ±1; shape (frames,) or (channels, frames), `steps` one or one
    per frame. Silence stays silence."""
    flat = np.ascontiguousarray(x, dtype=np.float32).reshape(-1, x.shape[-1])
    out = np.empty_like(flat)
    _quantise_kernel(flat, np.atleast_1d(np.asarray(steps, np.float32)), out)
    return out.reshape(x.shape)


@dataclass(frozen=True, eq=False)
class Table:
    """A curve from -1 to 1 at equal distances, straight between, level beyond; and its integral from 0."""

    values: NDArray[np.float64]
    integral: NDArray[np.float64]


def table_of(values: NDArray[np.float64]) -> Table:
    """A curve given at an odd number of places from -1 to 1."""
    step = 2.0 / (values.shape[0] - 1)
    integral = np.concatenate([[0.0], np.cumsum(0.5 * step * (values[1:] + values[:-1]))])
    return Table(np.asarray(values, np.float64), integral - integral[values.shape[0] // 2])


@inlined
def _in_table(v: float, values: Any) -> float:
    last = values.shape[0] - 1
    place = min(float(last), max(0.0, 0.5 * (v + 1.0) * last))
    index = min(int(place), last - 1)
    found: float = values[index] + (place - index) * (values[index + 1] - values[index])
    return found


@inlined
def _table_integral(v: float, values: Any, integral: Any) -> float:
    last = values.shape[0] - 1
    within = min(1.0, max(-1.0, v))
    place = 0.5 * (within + 1.0) * last
    index = min(int(place), last - 1)
    share = place - index
    inside = integral[index] + 2.0 / last * share * (values[index] + 0.5 * share * (values[index + 1] - values[index]))
    whole: float = inside + (v - within) * (values[last] if v > 0.0 else values[0])
    return whole


@kernel
def _table_kernel(x: Any, gain: float, values: Any, y: Any) -> None:
    for i in range(x.shape[0]):
        y[i] = _in_table(gain * x[i], values)


@kernel
def _table_between_kernel(
    even: Any, odd: Any, gain: float, values: Any, whole: Any, after_even: Any, after_odd: Any
) -> None:
    frames = even.shape[0]
    before, at = 0.0, 0.0
    for n in range(2 * frames):
        v = gain * np.float64(even[n >> 1] if n & 1 == 0 else odd[n >> 1])
        integral = _table_integral(v, values, whole)
        if n:
            apart = v - at
            mean = (integral - before) / apart if abs(apart) > NEAR else _in_table(0.5 * (v + at), values)
            if n & 1:
                after_even[n >> 1] = mean
            else:
                after_odd[(n >> 1) - 1] = mean
        before, at = integral, v
    after_odd[frames - 1] = 0.0


def tabled(x: NDArray[np.float32], gain: float, table: Table) -> NDArray[np.float32]:
    """A curve in a table, of g·x; any shape."""
    flat = np.ascontiguousarray(x, dtype=np.float32).reshape(-1)
    out = np.empty_like(flat)
    _table_kernel(flat, float(gain), table.values, out)
    return out.reshape(x.shape)


def tabled_between(planes: NDArray[np.float32], gain: float, table: Table) -> NDArray[np.float32]:
    """The mean of a curve in a table along the straight line from each sample to the next; see `bent_between`."""
    out = np.empty_like(planes)
    _table_between_kernel(planes[0], planes[1], float(gain), table.values, table.integral, out[0], out[1])
    return out
