"""One cycle of a low tone: peak, RMS, crest, and whether its half-waves have one peak or two.

For sin x + a·sin 3x (a third harmonic in opposition to the peak) the half-wave keeps a single peak up to a = 1/9,
where it is flattest; the peak itself falls to √3/2 = 0.866 at a = 1/6 and grows again beyond.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.measure.notes import phasor
from apilado.core.measure.windows import hann
from apilado.core.units import gain_to_db

FLATTEST_SINGLE_PEAK, LOWEST_PEAK = 1.0 / 9.0, 1.0 / 6.0
HARMONICS, POINTS = 12, 240
RIPPLE = 1e-3


@dataclass(frozen=True, eq=False)
class Fullness:
    """Of one cycle."""

    peak: float
    rms: float
    crest_db: float
    double_peak: bool
    third: float
    """Third harmonic over the first, positive in opposition to the peak."""
    cycle: NDArray[np.float64]
    """POINTS values from an upward zero of the fundamental."""

    @property
    def peak_db(self) -> float:
        """Against full scale."""
        return float(gain_to_db(self.peak))

    @property
    def rms_db(self) -> float:
        """Against full scale."""
        return float(gain_to_db(self.rms))


def harmonic_amplitudes(signal: NDArray[np.floating], frequency_hz: float, rate_hz: int) -> NDArray[np.complex128]:
    """Complex amplitudes of harmonics 1 … HARMONICS of a steady signal under a Hann window; c = A·e^(iθ) of A·cos."""
    x = np.asarray(signal, np.float64)
    window = hann(x.shape[0])
    n = np.arange(1, HARMONICS + 1)
    first = phasor(frequency_hz / rate_hz, x.shape[0])
    waves = np.cumprod(np.broadcast_to(first, (HARMONICS, x.shape[0])), axis=0)
    found = 2.0 * (waves @ (x * window)) / np.sum(window)
    return np.asarray(np.where(n * frequency_hz < 0.45 * rate_hz, found, 0.0), np.complex128)


def fullness(amplitudes: NDArray[np.complex128]) -> Fullness | None:
    """What a cycle of these harmonics is like; None where there is no fundamental."""
    first = abs(amplitudes[0])
    if first < 1e-6:
        return None
    # Shifted so that the fundamental is a sine from zero.
    turn = np.exp(-1j * (np.angle(amplitudes[0]) + np.pi / 2.0) * np.arange(1, len(amplitudes) + 1))
    turned = amplitudes * turn
    x = 2.0 * np.pi * np.arange(POINTS) / POINTS
    cycle = np.real(np.exp(1j * np.outer(x, np.arange(1, len(amplitudes) + 1))) @ turned)
    peak, rms = float(np.max(np.abs(cycle))), float(np.sqrt(np.mean(cycle**2)))
    return Fullness(
        peak=peak,
        rms=rms,
        crest_db=float(gain_to_db(peak / rms)),
        double_peak=_peaks(cycle[: POINTS // 2], peak) > 1 or _peaks(-cycle[POINTS // 2 :], peak) > 1,
        third=float(-turned[2].imag / first),
        cycle=cycle,
    )


def _peaks(half: NDArray[np.float64], peak: float) -> int:
    """Maxima of a half-wave that stand out of the dips between them."""
    inner = half[1:-1]
    tops = np.flatnonzero((inner >= half[:-2]) & (inner > half[2:])) + 1
    count, last = 0, -1
    for top in tops:
        if half[top] < 0.5 * peak:
            continue
        if last >= 0 and min(half[last], half[top]) - float(np.min(half[last : top + 1])) < RIPPLE * peak:
            last = int(top)
            continue
        count, last = count + 1, int(top)
    return count
