"""How two neighbours stand on each other at their border."""

from __future__ import annotations

import cmath
import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.measure.spectrum import Spectrum
from apilado.core.units import power_to_db

APART_DB = -30.0
"""Where the quieter of two neighbours lies this far below the louder, their phase is of no consequence."""
DRIFTING = 0.3
"""Below this steadiness two layers have no phase to speak of: they neither add nor cancel for long."""
LONGEST_DELAY_MS = 12.0


@dataclass(frozen=True)
class BorderPhase:
    """Two layers in the octave around their border, from their mono sums."""

    frequency_hz: float
    lower: str
    upper: str
    phase_deg: float
    """Of the upper against the lower, weighted by energy; positive leads."""
    coherence_gain_db: float
    """+3 when equal and in phase, 0 unrelated, negative when cancelling."""
    balance_db: float
    """Quieter against louder, 0 or negative."""
    steadiness: float
    """Size of the mean cross-spectrum against both levels: 1 one fixed phase, 0 drifting."""

    @property
    def meets(self) -> bool:
        """Whether both have enough energy at the border for their phase to matter."""
        return self.balance_db > APART_DB

    @property
    def drifts(self) -> bool:
        """Whether the two hold no steady phase."""
        return self.steadiness < DRIFTING


@dataclass(frozen=True, eq=False)
class Octave:
    """The lines of a stem's mono sum within half an octave either side of a frequency."""

    around_hz: float
    first: int
    """The number of the first line."""
    lines: NDArray[np.complex128]
    bin_hz: float
    line_power: float

    @property
    def power(self) -> float:
        """Sum of the squares of the lines."""
        return float(np.sum(np.abs(self.lines) ** 2))


def octave_around(spectrum: Spectrum, *, frequency_hz: float) -> Octave:
    """What two neighbours are compared by at their border."""
    low = math.floor(frequency_hz / math.sqrt(2.0) / spectrum.bin_hz)
    high = math.ceil(frequency_hz * math.sqrt(2.0) / spectrum.bin_hz) + 1
    lines = ((spectrum.left[low:high] + spectrum.right[low:high]) / 2.0).astype(np.complex128)
    return Octave(frequency_hz, low, lines, spectrum.bin_hz, spectrum.line_power)


def coherence_gain_db(a: NDArray[np.complex128], b: NDArray[np.complex128]) -> float:
    """10·log10(Σ|A+B|² / Σ(|A|²+|B|²)); 0 where there is nothing."""
    apart = float(np.sum(np.abs(a) ** 2) + np.sum(np.abs(b) ** 2))
    return float(power_to_db(float(np.sum(np.abs(a + b) ** 2)) / apart)) if apart > 0.0 else 0.0


def border_phase(lower: Octave, upper: Octave, names: tuple[str, str]) -> BorderPhase:
    """Phase and coherence gain of two stems of the same render, from the octave around their border."""
    a, b = lower.lines, upper.lines
    power_a, power_b = lower.power, upper.power
    loud, quiet = max(power_a, power_b), min(power_a, power_b)
    audible = loud * lower.line_power > 1e-9
    cross = complex(np.sum(b * np.conj(a)))
    return BorderPhase(
        frequency_hz=lower.around_hz,
        lower=names[0],
        upper=names[1],
        phase_deg=math.degrees(cmath.phase(cross)) if quiet > 0.0 else 0.0,
        coherence_gain_db=coherence_gain_db(a, b),
        balance_db=float(power_to_db(quiet / loud)) if audible else -150.0,
        steadiness=abs(cross) / math.sqrt(power_a * power_b) if quiet > 0.0 else 0.0,
    )


@dataclass(frozen=True)
class Alignment:
    """What to do to the upper of two stems so that their sum at the border is loudest."""

    invert: bool
    delay_ms: float
    """Positive delays the upper, negative the lower."""
    coherence_gain_db: float


def best_alignment(lower: Octave, upper: Octave) -> Alignment:
    """Polarity and delay within half a period of the border that give the greatest coherence gain.

    Delays are tried in steps of 1/32 of the period; the smaller delay wins where the gain is within 0.05 dB.
    """
    a, b = lower.lines, upper.lines
    frequencies = (lower.first + np.arange(a.shape[0])) * lower.bin_hz
    cross = b * np.conj(a)
    furthest = min(LONGEST_DELAY_MS, 500.0 / lower.around_hz)
    delays = np.linspace(-furthest, furthest, 65)
    turned = np.exp(-2j * np.pi * np.outer(delays / 1000.0, frequencies)) @ cross
    apart = lower.power + upper.power
    if apart <= 0.0:
        return Alignment(False, 0.0, 0.0)
    options = [
        Alignment(sign < 0.0, float(delay), float(power_to_db(1.0 + 2.0 * sign * float(value.real) / apart)))
        for sign in (1.0, -1.0)
        for delay, value in zip(delays, turned, strict=True)
    ]
    most = max(option.coherence_gain_db for option in options)
    near = [option for option in options if option.coherence_gain_db >= most - 0.05]
    return min(near, key=lambda option: (abs(option.delay_ms), option.invert))
