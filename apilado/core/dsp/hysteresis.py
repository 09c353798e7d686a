"""Magnetic hysteresis: what a tape keeps of the field that it is given depends on where it has been.

The model of D. C. Jiles and D. L. Atherton, "Theory of ferromagnetic hysteresis", Journal of Magnetism and Magnetic
Materials 61, 1986:

    dM/dH = (1 - c)·δm·(Man - M)/((1 - c)·δ·k - α·(Man - M)) + c·dMan/dH, all over 1 - α·c·dMan/dH',
    Man = L((H + α·M)/a), L(x) = coth x - 1/x,

δ being the direction of the field, and δm 0 where the magnetisation would run against it. The field runs straight from
one sample to the next; each step is taken by Heun's method.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.kernels import inlined, kernel

SHAPE, COUPLING, REVERSIBLE = 1.0 / 3.0, 1e-3, 0.2
"""a, α and c, for a magnetisation between -1 and 1: with them a small field is magnified about once."""
LONGEST_STEP = 0.1
"""A field that goes further between two samples goes there in parts."""
EDGE, STEPS = 8.0, 2048
"""Up to here the Langevin function is read from a table; beyond, coth x is ±1 to the seventh digit."""


def _table() -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    x = np.linspace(0.0, EDGE, STEPS + 2)[1:]
    values, slopes = 1.0 / np.tanh(x) - 1.0 / x, 1.0 / (x * x) - 1.0 / np.sinh(x) ** 2
    return np.concatenate([[0.0], values]), np.concatenate([[1.0 / 3.0], slopes])


LANGEVIN, LANGEVIN_SLOPE = _table()


@inlined
def _langevin(x: float) -> tuple[float, float]:
    """L(x) and its slope."""
    size = abs(x)
    if size >= EDGE:
        value, slope = 1.0 - 1.0 / size, 1.0 / (size * size)
    else:
        place = size * ((STEPS + 1) / EDGE)
        index = int(place)
        share = place - index
        value = LANGEVIN[index] + share * (LANGEVIN[index + 1] - LANGEVIN[index])
        slope = LANGEVIN_SLOPE[index] + share * (LANGEVIN_SLOPE[index + 1] - LANGEVIN_SLOPE[index])
    return (value if x >= 0.0 else -value), slope


@inlined
def _slope(field: float, magnetised: float, direction: float, width: float) -> float:
    """dM/dH."""
    anhysteretic, rises = _langevin((field + COUPLING * magnetised) / SHAPE)
    apart = anhysteretic - magnetised
    rises /= SHAPE
    irreversible = 0.0
    if apart * direction > 0.0:
        under = (1.0 - REVERSIBLE) * direction * width - COUPLING * apart
        irreversible = (1.0 - REVERSIBLE) * apart / under
    return (irreversible + REVERSIBLE * rises) / (1.0 - COUPLING * REVERSIBLE * rises)


@kernel
def _hysteresis_kernel(field: Any, width: float, state: Any, keep_at: int, averaged: bool, kept: Any, out: Any) -> None:
    before, magnetised = state[0], state[1]
    for n in range(field.shape[0]):
        if n == keep_at:
            kept[0], kept[1] = before, magnetised
        now = np.float64(field[n])
        step, mean = now - before, magnetised
        if step != 0.0:
            direction = 1.0 if step > 0.0 else -1.0
            count = 1 + int(abs(step) / LONGEST_STEP)
            step, mean = step / count, 0.0
            for part in range(count):
                field_now = before + part * step
                first = _slope(field_now, magnetised, direction, width)
                second = _slope(field_now + step, magnetised + step * first, direction, width)
                mean += magnetised + step * (first / 3.0 + second / 6.0)  # of the parabola along the step
                magnetised += 0.5 * step * (first + second)
            mean /= count
        before = now
        out[n] = mean if averaged else magnetised
    if keep_at >= field.shape[0]:
        kept[0], kept[1] = before, magnetised


def magnetised(
    field: NDArray[np.float32], state: NDArray[np.float64], keep_at: int, *, width: float, averaged: bool = False
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """(what is left of a field, -1 to 1, the state before frame `keep_at`); shape (frames,).

    Args:
        state: the last field and magnetisation.
        width: k, half the width of the widest loop, in the unit of the field.
        averaged: gives its mean over the way from the sample before to each, in place of what it is there.
    """
    out, kept = np.empty_like(field), np.zeros(2)
    _hysteresis_kernel(np.ascontiguousarray(field), float(width), state, keep_at, averaged, kept, out)
    return out, kept
