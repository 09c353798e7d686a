"""Narrow peaks that stand out of a spectrum: what makes a distorted layer harsh."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.measure.bands import powers_between
from apilado.core.measure.spectrum import Spectrum
from apilado.core.units import power_to_db

FROM_HZ, UP_TO_HZ = 1500.0, 12000.0
NARROW_OCTAVES, WIDE_OCTAVES, STEP = 1 / 6, 1.0, 1 / 24


@dataclass(frozen=True)
class Resonance:
    """One peak."""

    frequency_hz: float
    excess_db: float
    """Over the mean level of the half octaves below and above it, whichever is louder."""
    q: float
    """Frequency over the width at half of the excess."""


def resonances(spectrum: Spectrum, *, least_db: float, fundamental_hz: float = 0.0) -> tuple[Resonance, ...]:
    """Peaks of a stem's long-term spectrum from 1.5 to 12 kHz that stand out by at least `least_db`, the worst first.

    Levels are taken over a sixth of an octave, or over three harmonics of `fundamental_hz` where that is wider: single
    harmonics are not resonances.
    """
    # Only the bins that matter: from the lowest window's edge to the highest's.
    first, last = (int(f / spectrum.bin_hz) for f in (FROM_HZ / 2.0, 2.0 * UP_TO_HZ))
    first = max(0, first - int(1.5 * fundamental_hz / spectrum.bin_hz))
    lines = [side[first:last] for side in spectrum.channels]
    count = round(math.log2(UP_TO_HZ / FROM_HZ) / STEP)
    margin = round(WIDE_OCTAVES / 2.0 / STEP)
    centres = FROM_HZ * 2.0 ** (STEP * np.arange(-margin, count + margin + 1))
    half = np.maximum(centres * (2.0 ** (NARROW_OCTAVES / 2.0) - 1.0), 1.5 * fundamental_hz)
    bins = lines[0].shape[0]
    low = np.clip((centres - half) / spectrum.bin_hz - first, 0, bins - 1).astype(np.int64)
    high = np.clip((centres + half) / spectrum.bin_hz - first, 1, bins).astype(np.int64)
    # Per octave, as the ear goes: a falling spectrum of that kind is level.
    density = sum(powers_between(side, low, high) for side in lines) / np.maximum(high - low, 1) * centres
    levels = np.asarray(power_to_db(density / max(float(np.max(density)), 1e-30)))
    found: list[Resonance] = []
    excess = np.array([_excess(levels, i, margin) for i in range(margin, levels.shape[0] - margin)])
    for index in np.argsort(-excess, kind="stable"):
        if excess[index] < least_db:
            break
        frequency = float(centres[index + margin])
        if all(abs(math.log2(frequency / other.frequency_hz)) > 0.25 for other in found):
            found.append(Resonance(frequency, float(excess[index]), _q(excess, int(index))))
    return tuple(found)


def _excess(levels: NDArray[np.float64], index: int, margin: int) -> float:
    around = levels[index - margin : index + margin + 1]
    # The peak itself is left out of what it is compared with; what falls off on one side alone is an edge, not a peak.
    core = round(NARROW_OCTAVES / STEP)
    below, above = around[: margin - core], around[margin + core + 1 :]
    return float(levels[index] - max(np.mean(below), np.mean(above)))


def _q(excess: NDArray[np.float64], index: int) -> float:
    limit = excess[index] / 2.0
    low = index
    while low > 0 and excess[low - 1] > limit:
        low -= 1
    high = index
    while high + 1 < excess.shape[0] and excess[high + 1] > limit:
        high += 1
    octaves = max((high - low + 1) * STEP, NARROW_OCTAVES / 2.0)
    return float(1.0 / (2.0 ** (octaves / 2.0) - 2.0 ** (-octaves / 2.0)))
