"""Band-limited tones from harmonic lists.

A tone of constant pitch is a table of one cycle, made by an inverse FFT of exactly those harmonics that stay below half
the rate: nothing above it is ever played. Tables are long enough (at least 64 points per cycle of the highest harmonic,
or `LONGEST_TABLE`) that linear interpolation keeps its images below -95 dB of the fundamental.

A pulse is a saw less the same saw a pulse width later; so a width that moves is a saw whose place moves.

A tone whose pitch moves has a ladder of tables, each with a ninth fewer harmonics than the one before it
(`RUNGS_PER_OCTAVE` = 6), and goes from rung to rung with its pitch, fading between neighbours: a harmonic goes while it
passes the last sixth of an octave below half the rate, and comes back with the pitch.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any, Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray

Shape = Literal["sine", "triangle", "saw", "square", "pulse", "noise"]

SHORTEST_TABLE, LONGEST_TABLE = 4096, 32768
POINTS_PER_HARMONIC = 64
RUNGS_PER_OCTAVE = 6


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


def table_size(count: int) -> int:
    """Points of a cycle that holds `count` harmonics."""
    return 1 << math.ceil(math.log2(min(max(POINTS_PER_HARMONIC * count, SHORTEST_TABLE), LONGEST_TABLE)))


@lru_cache(maxsize=256)
def cycle_table(shape: Shape, pulse_width: float, levels: tuple[float | None, ...], count: int) -> NDArray[np.float32]:
    """One cycle of a tone with `count` harmonics, its first point repeated at the end. Shape (size + 1,)."""
    table = _cycle(shape, pulse_width, levels, count, table_size(count))
    table.flags.writeable = False
    return table


def _cycle(
    shape: Shape, pulse_width: float, levels: tuple[float | None, ...], count: int, size: int
) -> NDArray[np.float32]:
    spectrum = np.zeros(size // 2 + 1, np.complex128)
    harmonics = with_overrides(shape_harmonics(shape, count, pulse_width=pulse_width), levels)
    spectrum[1 : count + 1] = harmonics * (-0.5j * size)  # a sine is -i/2 of its positive frequency
    cycle = np.fft.irfft(spectrum, size)
    return np.append(cycle, cycle[0]).astype(np.float32)


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


@lru_cache(maxsize=16)
def table_ladder(
    shape: Shape, pulse_width: float, levels: tuple[float | None, ...], count: int, rungs: int
) -> NDArray[np.float32]:
    """Tables of a tone for a pitch that moves: the first with `count` harmonics, the further ones a rung down each.

    Shape (rungs, points + 1); rungs on which no harmonic fits are silent.
    """
    size = table_size(max(1, count))
    tables = np.zeros((rungs, size + 1), np.float32)
    for rung in range(rungs):
        harmonics = int(count * 2.0 ** (-rung / RUNGS_PER_OCTAVE))
        if harmonics:
            tables[rung] = _cycle(shape, pulse_width, levels, harmonics, size)
    tables.flags.writeable = False
    return tables


@njit(cache=True, nogil=True, fastmath={"contract"})
def _moving_kernel(
    tables: Any,
    phase: Any,
    steps: Any,
    ratio: Any,
    lags: Any,
    rungs: Any,
    shift: Any,
    left: Any,
    right: Any,
    gain: Any,
    out: Any,
) -> None:
    """As `_steady_kernel`, with a step and a place on the ladder per frame, and a lag in cycles: one, or one each."""
    lagging = lags.shape[0] > 1
    size = tables.shape[1] - 1
    top = tables.shape[0] - 2  # where it is played with the rung below it
    stereo = out.shape[0] == 2
    p = phase
    for i in range(out.shape[1]):
        p -= np.floor(p)
        q = p - lags[i if lagging else 0]
        q = (q - np.floor(q)) * size
        k = np.int64(q)
        f = np.float32(q - k)
        place = min(max(rungs[i] + shift, np.float32(0.0)), np.float32(top))
        rung = np.int64(place)
        share = np.float32(place - rung)
        a = tables[rung, k] + f * (tables[rung, k + 1] - tables[rung, k])
        b = tables[rung + 1, k] + f * (tables[rung + 1, k + 1] - tables[rung + 1, k])
        v = (a + share * (b - a)) * gain[i]
        out[0, i] += left * v
        if stereo:
            out[1, i] += right * v
        p += steps[i] * ratio


def sides_of(channels: int, pan: float) -> tuple[np.float32, np.float32]:
    """Equal-power gains of both channels; 1 on the left where there is only one."""
    angle = (pan + 1.0) * math.pi / 4.0
    left, right = (math.cos(angle) * math.sqrt(2.0), math.sin(angle) * math.sqrt(2.0))
    return np.float32(1.0 if channels == 1 else left), np.float32(right)


def add_tone(
    out: NDArray[np.float32],
    table: NDArray[np.float32],
    *,
    phase: float,
    frequency_hz: float,
    rate_hz: int,
    pan: float,
    gain: NDArray[np.float32],
) -> None:
    """Adds one copy of a tone of constant pitch to `out`, in place.

    Args:
        out: shape (1 or 2, frames); panning applies to 2 only.
        table: from `cycle_table`.
        phase: where in its cycle it starts, in cycles.
        pan: -1 left to 1 right, equal power.
        gain: per frame, shape (frames,).
    """
    _steady_kernel(table, float(phase), frequency_hz / rate_hz, *sides_of(out.shape[0], pan), gain, out)


class MovingTone:
    """One tone along a pitch that moves: its ladder of tables, and where on it every frame is.

    Args:
        frequencies_hz: of the tone's undetuned copy at each frame, shape (frames,).
        lags: how far behind that it is at each frame, in cycles, shape (frames,).
    """

    def __init__(
        self,
        shape: Shape,
        pulse_width: float,
        levels: tuple[float | None, ...],
        frequencies_hz: NDArray[np.float64],
        rate_hz: int,
        lags: NDArray[np.float64] | None = None,
    ) -> None:
        self._lags = np.zeros(1) if lags is None else lags
        # A lag that moves raises and lowers what is played, as anything does that comes and goes.
        hurry = 0.0 if lags is None else np.abs(np.gradient(lags)) * rate_hz
        fits = 0.499 * rate_hz / (frequencies_hz + hurry)
        # A rung is left for the one below as soon as its highest harmonic comes near: the first is a rung short of all
        # that fits at the lowest pitch, so that a pitch at rest there plays it alone.
        count = min(LONGEST_TABLE // 8, float(np.max(fits))) * 2.0 ** (-1.0 / RUNGS_PER_OCTAVE)
        self._rungs = np.maximum(RUNGS_PER_OCTAVE * np.log2(count / fits) + 1.0, 0.0).astype(np.float32)
        # Room for copies that are detuned upwards, and for the neighbour below.
        needed = math.ceil(float(np.max(self._rungs)) + 1.0) + 2
        self._tables = table_ladder(shape, pulse_width, levels, int(count), needed)
        self._steps, self._rate_hz = frequencies_hz / rate_hz, rate_hz

    def add(
        self, out: NDArray[np.float32], *, phase: float, ratio: float, pan: float, gain: NDArray[np.float32]
    ) -> None:
        """Adds a copy, its pitch at a ratio to the track, to `out`, in place."""
        shift = np.float32(RUNGS_PER_OCTAVE * math.log2(ratio))
        sides = sides_of(out.shape[0], pan)
        turning = (float(phase), self._steps, ratio, self._lags)
        _moving_kernel(self._tables, *turning, self._rungs, shift, *sides, gain, out)


class MovingPulse:
    """A pulse whose width moves, along a pitch that may move too.

    Harmonics that are set by hand stay as they are at the width that it begins with.

    Args:
        frequencies_hz: of the tone's undetuned copy at each frame, shape (frames,).
        widths: of the high part at each frame, in cycles, shape (frames,).
    """

    def __init__(
        self,
        widths: NDArray[np.float64],
        levels: tuple[float | None, ...],
        frequencies_hz: NDArray[np.float64],
        rate_hz: int,
    ) -> None:
        without = tuple(None if level is None else 0.0 for level in levels)
        rising = MovingTone("saw", 0.5, without, frequencies_hz, rate_hz)
        falling = MovingTone("saw", 0.5, without, frequencies_hz, rate_hz, widths)
        self._parts = [(rising, 1.0), (falling, -1.0)]
        if any(levels):
            others = [0.0] * (LONGEST_TABLE // 8 - len(levels))
            alone = (*(level or 0.0 for level in levels), *others)
            self._parts.append((MovingTone("pulse", float(widths[0]), alone, frequencies_hz, rate_hz), 1.0))

    def add(
        self, out: NDArray[np.float32], *, phase: float, ratio: float, pan: float, gain: NDArray[np.float32]
    ) -> None:
        """Adds a copy, its pitch at a ratio to the track, to `out`, in place."""
        for part, sign in self._parts:
            part.add(out, phase=phase, ratio=ratio, pan=pan, gain=gain * np.float32(sign))
