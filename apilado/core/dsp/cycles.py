"""One cycle of a wave, as the list of its harmonics: classic shapes, tables, hard sync, phase distortion.

All of a cycle is made as harmonics of its fundamental, and cut off where they would pass half the rate: so nothing
that is done to a cycle gives rise to an alias.

Hard sync plays a cycle faster and starts it again where the wave's own cycle begins. Phase distortion lets the cycle
reach its half earlier: its phase goes in two straight lines that meet there.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.kernels import kernel

Shape = Literal["sine", "triangle", "saw", "square", "pulse", "table", "noise"]
Levels = tuple[float | None, ...]

SHORTEST_TABLE, LONGEST_TABLE = 4096, 32768
POINTS_PER_HARMONIC = 64
MOST_CYCLES = 64
BEND_REACHES = 0.48
"""So far does the half of a cycle come forward at most: to 2 % of it."""
WARPED_POINTS, READ_WITHIN = 8192, 8
"""Points of a cycle that is warped at least, and in how many places it is read for each."""
WALKED_POINTS = 16384
"""Of a cycle that is one of many along a way."""
SHORTEST_READ, LONGEST_READ, ABOUT_AS_GOOD = 16, 16384, 0.02
BASE_HARMONICS = 4096
"""Of what is warped."""


@dataclass(frozen=True)
class Recorded:
    """Cycles that were read from a file: told apart by their name."""

    name: str
    spectra: tuple[NDArray[np.complex128], ...]
    """Of each, the complex amplitudes of its harmonics from the first on."""

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Recorded) and other.name == self.name

    def __hash__(self) -> int:
        return hash(self.name)


@dataclass(frozen=True)
class Cycle:
    """What one cycle of a wave is made of."""

    shape: Shape = "sine"
    pulse_width: float = 0.5
    levels: Levels = ()
    """Amplitudes of its first harmonics that are set by hand; None keeps the shape's own."""
    drawn: tuple[Levels, ...] = ()
    """Of a table: the amplitudes of the harmonics of each of its cycles."""
    recorded: Recorded | None = None
    """Of a table that was read from a file."""
    position: float = 0.0
    """In a table, 0 its first cycle, 1 its last."""
    sync: float = 1.0
    """Cycles of the shape from one start of the wave to the next."""
    bend: float = 0.0
    """Phase distortion, 0 none to 1."""

    @property
    def warped(self) -> bool:
        """Whether its phase goes in other ways than straight on."""
        return self.sync != 1.0 or self.bend != 0.0

    def harmonics(self, count: int) -> NDArray[np.complex128]:
        """Complex amplitudes c of harmonics 1 … count of the wave Σ |c|·sin(2πnφ + arg c). Shape (count,)."""
        if not self.warped:
            return with_overrides(self._plain(count), self.levels)
        size = 1 << math.ceil(math.log2(max(WARPED_POINTS, 16 * count)))
        half = 0.5 - BEND_REACHES * self.bend
        points = _warped_kernel(_base(replace(self, sync=1.0, bend=0.0)), self.sync, half, size)
        n = np.arange(1, count + 1)
        # Each point is the mean of what lies up to the next one.
        late = np.exp(-1j * np.pi * n / size) / np.sinc(n / size)
        return np.asarray(np.fft.rfft(points)[1 : count + 1] * late * (2j / size), np.complex128)

    def _plain(self, count: int) -> NDArray[np.complex128]:
        if self.shape != "table":
            return shape_harmonics(self.shape, count, pulse_width=self.pulse_width)
        cycles = len(self.recorded.spectra) if self.recorded else len(self.drawn)
        if not cycles:
            return shape_harmonics("sine", count)
        place = min(max(self.position, 0.0), 1.0) * (cycles - 1)
        lower = min(int(place), max(cycles - 2, 0))
        share = place - lower
        total = np.zeros(count, np.complex128)
        for number, part in ((lower, 1.0 - share), (lower + 1, share)):
            if part > 0.0:
                own = self._of_table(number)[:count]
                total[: own.shape[0]] += part * own
        return total

    def _of_table(self, number: int) -> NDArray[np.complex128]:
        if self.recorded:
            return self.recorded.spectra[number]
        return np.array([level or 0.0 for level in self.drawn[number]], np.complex128)


@kernel
def _warped_kernel(base: Any, sync: float, half: float, size: int) -> Any:
    """The means of so many stretches of a cycle that is played at another speed and comes to its half at another place.

    Means, for what jumps has no end of harmonics.
    """
    out, long = np.empty(size), base.shape[0] - 1
    for i in range(size):
        total = 0.0
        for inner in range(READ_WITHIN):
            t = (i + (inner + 0.5) / READ_WITHIN) / size * sync
            t -= np.floor(t)
            t = t * 0.5 / half if t < half else 0.5 + (t - half) * 0.5 / (1.0 - half)
            place = t * long
            k = min(np.int64(place), long - 1)
            total += base[k] + (place - k) * (base[k + 1] - base[k])
        out[i] = total / READ_WITHIN
    return out


def cycle_found(audio: Audio) -> int:
    """How many frames each of the cycles has that lie end to end in a file.

    The length that divides the whole, or is a power of two, at which the sound is most like itself one length later;
    of those that are about as good the shortest.
    """
    mono = np.asarray(np.mean(audio, axis=0, dtype=np.float64))
    mono -= np.mean(mono)
    frames = int(mono.shape[0])
    powers = [1 << power for power in range(5, 15)]
    parts = [frames // count for count in range(1, MOST_CYCLES * 4 + 1) if frames % count == 0]
    # A smooth sound is like itself a moment later too: a cycle is longer than it takes to be unlike itself.
    begun = mono[: 4 * LONGEST_READ]
    alike = np.fft.irfft(np.abs(np.fft.rfft(begun, 2 * begun.shape[0])) ** 2)[: min(LONGEST_READ, frames // 2)]
    unlike = int(np.argmax(alike < 0.0))
    shortest = max(SHORTEST_READ, unlike)
    lengths = sorted({length for length in (*powers, *parts) if shortest <= length <= min(frames // 2, LONGEST_READ)})
    if not lengths:
        return min(max(frames, SHORTEST_READ), LONGEST_READ)
    repeats = np.array([_alike(mono, length) for length in lengths])
    return int(lengths[int(np.flatnonzero(repeats >= np.max(repeats) - ABOUT_AS_GOOD)[0])])


def _alike(mono: NDArray[np.float64], later: int) -> float:
    before, after = mono[:-later], mono[later:]
    power = math.sqrt(float(np.sum(before**2)) * float(np.sum(after**2)))
    return float(np.sum(before * after)) / power if power > 0.0 else 0.0


def cycles_of(audio: Audio, frames: int, name: str) -> Recorded:
    """The cycles of so many frames that lie end to end in an audio file; of more than `MOST_CYCLES` as many, evenly.

    What is left over at the end is no cycle.
    """
    mono = np.mean(audio, axis=0, dtype=np.float64)
    there = max(1, mono.shape[0] // frames)
    chosen = np.unique(np.round(np.linspace(0, there - 1, min(there, MOST_CYCLES))).astype(int))
    cycles = np.resize(np.pad(mono, (0, max(0, frames - mono.shape[0]))), (there, frames))[chosen]
    spectra = np.fft.rfft(cycles)[:, 1 : (frames + 1) // 2] * (2j / frames)
    return Recorded(f"{name}:{frames}", tuple(spectra))


@lru_cache(maxsize=32)
def _base(cycle: Cycle) -> NDArray[np.float32]:
    """A cycle before it is warped: its points, the first repeated at the end."""
    if cycle.shape in ("saw", "square", "pulse") and not cycle.levels:
        return _ideal(cycle.shape, cycle.pulse_width)
    return _points(cycle, BASE_HARMONICS, LONGEST_TABLE)


def _ideal(shape: Shape, pulse_width: float) -> NDArray[np.float32]:
    """A shape that jumps, with all of its harmonics: its points, the first repeated at the end."""
    at = (np.arange(LONGEST_TABLE + 1) % LONGEST_TABLE) / LONGEST_TABLE
    if shape == "saw":
        return (1.0 - 2.0 * at).astype(np.float32)
    width = 0.5 if shape == "square" else pulse_width
    return np.where(at < width, 1.0, -1.0).astype(np.float32)


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


def with_overrides(harmonics: NDArray[np.complex128], levels: Levels) -> NDArray[np.complex128]:
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
def cycle_table(cycle: Cycle, count: int) -> NDArray[np.float32]:
    """A cycle with `count` harmonics, its first point repeated at the end. Shape (size + 1,)."""
    table = _points(cycle, count, table_size(count))
    table.flags.writeable = False
    return table


def _points(cycle: Cycle, count: int, size: int) -> NDArray[np.float32]:
    spectrum = np.zeros(size // 2 + 1, np.complex128)
    spectrum[1 : count + 1] = cycle.harmonics(count) * (-0.5j * size)  # a sine is -i/2 of its positive f
    points = np.fft.irfft(spectrum, size)
    return np.append(points, points[0]).astype(np.float32)


@lru_cache(maxsize=16)
def table_ladder(cycle: Cycle, count: int, rungs: int, rungs_per_octave: int) -> NDArray[np.float32]:
    """Tables of a cycle for a pitch that moves: the first with `count` harmonics, the further ones a rung down each.

    Shape (rungs, points + 1); rungs on which no harmonic fits are silent.
    """
    size = table_size(max(1, count))
    tables = np.zeros((rungs, size + 1), np.float32)
    for rung in range(rungs):
        harmonics = int(count * 2.0 ** (-rung / rungs_per_octave))
        if harmonics:
            tables[rung] = _points(cycle, harmonics, size)
    tables.flags.writeable = False
    return tables


@lru_cache(maxsize=512)
def walked_table(cycle: Cycle, count: int) -> NDArray[np.float32]:
    """A cycle that is one of many along a way. Shape (WALKED_POINTS + 1,)."""
    return _points(cycle, count, WALKED_POINTS)


def slope_of(cycle: Cycle, count: int) -> float:
    """The greatest slope of a wave at most, in its peak times 2π a cycle: 1 for a sine."""
    if cycle.shape in ("sine", "triangle") and not (cycle.warped or cycle.levels):
        return 1.0
    return float(np.sum(np.arange(1, count + 1) * np.abs(cycle.harmonics(count))))
