"""Band-limited tones from harmonic lists.

A tone is a table of one cycle, made by an inverse FFT of exactly those harmonics that stay below half the rate at
the highest frequency it will be played at: nothing above it is ever played. Tables are long enough (at least 64
points per cycle of the highest harmonic, or `LONGEST_TABLE`) that linear interpolation keeps its images below
-95 dB of the fundamental.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any, Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray

Shape = Literal["sine", "triangle", "saw", "square", "pulse"]

SHORTEST_TABLE, LONGEST_TABLE = 4096, 32768
POINTS_PER_HARMONIC = 64


def shape_harmonics(shape: Shape, count: int, *, pulse_width: float = 0.5) -> NDArray[np.complex128]:
    """Complex amplitudes c of harmonics 1 … count of a wave Σ |c|·sin(2πnφ + arg c), peak about 1.

    Fourier series: saw (2/π) Σ sin(nφ)/n falling from its start, square (4/π) Σ sin(nφ)/n over odd n,
    triangle (8/π²) Σ ±sin(nφ)/n² over odd n, pulse 4/(nπ)·sin(nπw) centred in its high part, shifted to its
    rising edge. Shape (count,).
    """
    n = np.arange(1, count + 1)
    odd = n % 2 == 1
    if shape == "sine":
        series = np.where(n == 1, 1.0, 0.0)
    elif shape == "saw":
        series = 2.0 / (np.pi * n)
    elif shape == "square":
        series = np.where(odd, 4.0 / (np.pi * n), 0.0)
    elif shape == "triangle":
        series = np.where(odd, np.where(n % 4 == 1, 8.0, -8.0) / (np.pi * n) ** 2, 0.0)
    else:
        # c·sin(2πnφ + θ) with cosines about the middle of the high part: θ = π/2 - πnw.
        turned = np.exp(1j * (np.pi / 2 - np.pi * n * pulse_width))
        return np.asarray(4.0 / (np.pi * n) * np.sin(np.pi * n * pulse_width) * turned, np.complex128)
    return series.astype(np.complex128)


def with_overrides(harmonics: NDArray[np.complex128], levels: tuple[float | None, ...]) -> NDArray[np.complex128]:
    """The list with the amplitude of its first harmonics replaced where a level is given; phases are kept."""
    result = harmonics.copy()
    for index, level in enumerate(levels[: len(result)]):
        if level is not None:
            size = abs(result[index])
            result[index] = level * (result[index] / size if size > 0.0 else 1.0)
    return result


@lru_cache(maxsize=256)
def cycle_table(shape: Shape, pulse_width: float, levels: tuple[float | None, ...], count: int) -> NDArray[np.float32]:
    """One cycle of a tone with `count` harmonics, its first point repeated at the end. Shape (size + 1,)."""
    size = 1 << math.ceil(math.log2(min(max(POINTS_PER_HARMONIC * count, SHORTEST_TABLE), LONGEST_TABLE)))
    spectrum = np.zeros(size // 2 + 1, np.complex128)
    harmonics = with_overrides(shape_harmonics(shape, count, pulse_width=pulse_width), levels)
    spectrum[1 : count + 1] = harmonics * (-0.5j * size)  # a sine is -i/2 of its positive frequency
    cycle = np.fft.irfft(spectrum, size)
    table = np.append(cycle, cycle[0]).astype(np.float32)
    table.flags.writeable = False
    return table


def harmonics_below(frequency_hz: float, rate_hz: int) -> int:
    """How many harmonics of a frequency lie below half the rate, with a hair of margin; at least 0."""
    return max(0, min(LONGEST_TABLE // 8, math.floor(0.499 * rate_hz / frequency_hz)))


@njit(cache=True, nogil=True, fastmath={"contract"})
def _steady_kernel(table: Any, phase: Any, step: Any, left: Any, right: Any, gain: Any, out: Any) -> None:
    """Adds a tone of constant pitch, times a gain curve, to out (1 or 2 channels)."""
    size = table.shape[0] - 1
    stereo = out.shape[0] == 2
    for i in range(out.shape[1]):
        p = phase + step * i
        p = (p - np.floor(p)) * size
        k = np.int64(p)
        f = np.float32(p - k)
        v = (table[k] + f * (table[k + 1] - table[k])) * gain[i]
        out[0, i] += left * v
        if stereo:
            out[1, i] += right * v


@njit(cache=True, nogil=True, fastmath={"contract"})
def _moving_kernel(table: Any, phase: Any, steps: Any, ratio: Any, left: Any, right: Any, gain: Any, out: Any) -> None:
    """As `_steady_kernel`, with a step per frame: a glide."""
    size = table.shape[0] - 1
    stereo = out.shape[0] == 2
    p = phase
    for i in range(out.shape[1]):
        p -= np.floor(p)
        q = p * size
        k = np.int64(q)
        f = np.float32(q - k)
        v = (table[k] + f * (table[k + 1] - table[k])) * gain[i]
        out[0, i] += left * v
        if stereo:
            out[1, i] += right * v
        p += steps[i] * ratio


def add_tone(
    out: NDArray[np.float32],
    table: NDArray[np.float32],
    *,
    phase: float,
    frequencies: float | NDArray[np.float64],
    ratio: float,
    rate_hz: int,
    pan: float,
    gain: NDArray[np.float32],
) -> None:
    """Adds one copy of a tone to `out`, in place.

    Args:
        out: shape (1 or 2, frames); panning applies to 2 only.
        table: from `cycle_table`.
        phase: where in its cycle it starts, in cycles.
        frequencies: in Hz, one for all frames or one per frame.
        ratio: multiplies the frequencies (detuning).
        pan: -1 left to 1 right, equal power.
        gain: per frame, shape (frames,).
    """
    angle = (pan + 1.0) * math.pi / 4.0
    left, right = (math.cos(angle) * math.sqrt(2.0), math.sin(angle) * math.sqrt(2.0))
    if out.shape[0] == 1:
        left = 1.0
    gains = (np.float32(left), np.float32(right))
    if isinstance(frequencies, float):
        _steady_kernel(table, float(phase), frequencies * ratio / rate_hz, *gains, gain, out)
    else:
        _moving_kernel(table, float(phase), frequencies / rate_hz, ratio, *gains, gain, out)
