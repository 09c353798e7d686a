"""Logarithms and powers of many numbers at a time: a library's are called one by one, and take ten times as long.

Both part a number into a power of two and a rest near 1, whose series is short: log m = 2·artanh((m - 1)/(m + 1)), and
2^f = e^(f·ln 2), each broken off where what follows is under 1e-11. Called from other kernels, on short arrays.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from apilado.core.dsp.kernels import kernel

ROOT_OF_HALF = 0x3FE6A09E667F3BCD
"""The bits of √½: a number parted there has a rest from √½ to √2."""
MANTISSA = 52
DB_PER_DOUBLING = 20.0 * math.log10(2.0)
DB_PER_ARTANH = 40.0 / math.log(10.0)
LN_2 = math.log(2.0)
LOWEST_POWER = -1000.0


@kernel
def to_decibels(levels: Any, rests: Any, out: Any) -> None:
    """20·log10 of amplitudes above 0, within 1e-11 dB.

    Args:
        levels, out: shape (count,), float64.
        rests: room for as many int64.
    """
    bits, mantissas = levels.view(np.int64), rests.view(np.float64)
    for i in range(levels.shape[0]):
        power = (bits[i] - ROOT_OF_HALF) >> MANTISSA
        rests[i] = bits[i] - (power << MANTISSA)
        out[i] = DB_PER_DOUBLING * np.float64(np.int32(power))
    for i in range(levels.shape[0]):
        s = (mantissas[i] - 1.0) / (mantissas[i] + 1.0)
        q = s * s
        series = 1.0 + q * (1 / 3 + q * (1 / 5 + q * (1 / 7 + q * (1 / 9 + q * (1 / 11 + q * (1 / 13))))))
        out[i] += DB_PER_ARTANH * s * series


@kernel
def powers_of_two(exponents: Any, bits: Any, out: Any) -> None:
    """2 to the power of numbers under 1000, within 1e-11 of itself; what would be under 2^-1000 is that.

    Args:
        exponents, out: shape (count,), float64.
        bits: room for as many int64.
    """
    scales = bits.view(np.float64)
    for i in range(exponents.shape[0]):
        x = max(exponents[i], LOWEST_POWER)
        nearest = np.rint(x)
        f = (x - nearest) * LN_2
        series = 1 / 24 + f * (1 / 120 + f * (1 / 720 + f * (1 / 5040 + f * (1 / 40320 + f * (1 / 362880)))))
        out[i] = 1.0 + f * (1.0 + f * (1 / 2 + f * (1 / 6 + f * series)))
        bits[i] = (np.int64(np.int32(nearest)) + 1023) << MANTISSA
    for i in range(exponents.shape[0]):
        out[i] *= scales[i]
