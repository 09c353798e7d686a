"""Memoryless nonlinearities: sample in, sample out, any shape."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(cache=True, nogil=True, fastmath=True)
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


@njit(cache=True, nogil=True, fastmath=True)
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


@njit(cache=True, nogil=True, fastmath=True)
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
