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
