"""Linear-phase filters: symmetric taps applied about their middle, so that nothing is delayed.

The low side of a border is the zero-phase form of the Linkwitz–Riley magnitude 1/(1 + (f/f₀)^(2n)), with n = 1, 2, 4
for 12, 24, 48 dB per octave; the high side is what is left of the signal. Both are -6.02 dB at the border, and their
sum is the signal itself, whatever the length of the taps.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy import fft
from scipy.signal import firwin, kaiserord, oaconvolve

from apilado.core.dsp.audio import Audio, as_audio, wrapped_tail
from apilado.core.dsp.filters import SETTLED, Sections, sections_response, settle_frames

TRUNCATED_DB = 110.0
HEARD_DB = 60.0
MONO_STOP_DB = 75.0
MONO_TRANSITION = 0.25
"""The side signal is back this share above a mono border."""


Magnitude = Callable[[NDArray[np.float64]], NDArray[np.float64]]


@dataclass(frozen=True, eq=False)
class Taps:
    """A symmetric filter, or with `rest` what it leaves of the signal."""

    taps: NDArray[np.float64]
    rest: bool = False

    def response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        """Zero-phase response at each frequency; real values, given as complex."""
        half = len(self.taps) // 2
        offsets = np.arange(1, half + 1)
        angles = 2.0 * np.pi * np.outer(frequencies_hz / rate_hz, offsets)
        kept = self.taps[half] + 2.0 * np.cos(angles) @ self.taps[half + 1 :]
        return np.asarray(1.0 - kept if self.rest else kept, np.complex128)

    def run(self, audio: Audio, *, looped: bool) -> Audio:
        """The filtered audio, same shape; a loop goes on round its seam."""
        half = len(self.taps) // 2
        if looped:
            head, tail = wrapped_tail(audio, half), audio[:, np.arange(half) % audio.shape[1]]
        else:
            head = tail = np.zeros((audio.shape[0], half), np.float32)
        padded = np.concatenate([head, audio, tail], axis=1)
        kept = oaconvolve(padded, self.taps.astype(np.float32)[None, :], mode="valid", axes=1)
        return as_audio(audio - kept if self.rest else kept)


def ringing_ms(frequency_hz: float, slope_db_per_octave: int, down_db: float = HEARD_DB) -> float:
    """How long the filters of a linear-phase border ring before (and after) until they are `down_db` below their peak.

    The slowest pole of 1/(1 + (f/f₀)^(2n)) lies at sin(π/2n) of the border.
    """
    slowest = math.sin(math.pi / (slope_db_per_octave / 6.0))
    return 1000.0 * down_db / 20.0 * math.log(10.0) / (2.0 * math.pi * frequency_hz * slowest)


def tap_count(frequency_hz: float, slope_db_per_octave: int, rate_hz: int) -> int:
    """Length of a linear-phase border's filters: odd, down to -110 dB at its ends."""
    return 2 * math.ceil(ringing_ms(frequency_hz, slope_db_per_octave, TRUNCATED_DB) * rate_hz / 1000.0) + 1


def taps_from_magnitude(magnitude: Magnitude, count: int, rate_hz: int) -> Taps:
    """Symmetric taps, an odd `count` of them, whose response follows a magnitude over frequency in Hz."""
    size = fft.next_fast_len(8 * count, real=True)
    impulse = fft.irfft(magnitude(np.arange(size // 2 + 1) * (rate_hz / size)), size)
    half = count // 2
    return Taps(np.concatenate([impulse[-half:], impulse[: half + 1]]))


MOST_EQ_TAPS = 2**16 + 1
EQ_SETTLED_DB = 90.0


def linear_phase_twin(sections: Sections, rate_hz: int) -> Taps:
    """Taps with the magnitude of a cascade and no phase at all.

    As long on either side as the cascade rings until it has decayed by 90 dB, at most 2^16 in all.
    """
    rings = settle_frames(sections, rate_hz) * EQ_SETTLED_DB / (-20.0 * math.log10(SETTLED))
    count = min(MOST_EQ_TAPS, 2 * math.ceil(rings) + 257)
    return taps_from_magnitude(lambda f: np.abs(sections_response(sections, f, rate_hz)), count, rate_hz)


BAND_ORDER = 8
"""Of 1/(1 + (f/f₀)^8), the magnitude² at the edges of a band that is ducked: 48 dB per octave when applied twice."""


@lru_cache(maxsize=32)
def band_taps(low_hz: float, high_hz: float, rate_hz: int) -> Taps:
    """A band from `low_hz` (0: from the bottom) to `high_hz`; applied twice it is -6.02 dB at its edges."""

    def magnitude(f: NDArray[np.float64]) -> NDArray[np.float64]:
        low = 1.0 / np.sqrt(1.0 + (f / high_hz) ** BAND_ORDER)
        if low_hz <= 0.0:
            return low
        with np.errstate(divide="ignore"):
            return np.asarray(low / np.sqrt(1.0 + (low_hz / f) ** BAND_ORDER))

    count = tap_count(low_hz if low_hz > 0.0 else high_hz, 48, rate_hz)
    return taps_from_magnitude(magnitude, min(count, MOST_EQ_TAPS), rate_hz)


@lru_cache(maxsize=64)
def low_side(frequency_hz: float, slope_db_per_octave: int, rate_hz: int) -> Taps:
    """The low side of a linear-phase border."""
    count = tap_count(frequency_hz, slope_db_per_octave, rate_hz)
    power = slope_db_per_octave / 6.0
    made = taps_from_magnitude(lambda f: np.asarray(1.0 / (1.0 + (f / frequency_hz) ** power)), count, rate_hz)
    return Taps(made.taps / np.sum(made.taps))


@lru_cache(maxsize=16)
def mono_low(border_hz: float, rate_hz: int) -> Taps:
    """A low-pass that is whole below a mono border and gone a quarter above it; `rest` of it is the side that stays."""
    count, beta = kaiserord(MONO_STOP_DB, MONO_TRANSITION * border_hz / (rate_hz / 2.0))
    middle = border_hz * (1.0 + MONO_TRANSITION / 2.0)
    return Taps(firwin(count | 1, middle, window=("kaiser", beta), fs=rate_hz), rest=True)


def mono_below(audio: Audio, border_hz: float, *, rate_hz: int, looped: bool) -> Audio:
    """Stereo audio whose side signal is taken away below a border; the mid is not touched at all. Shape (2, frames)."""
    half = np.float32(0.5)
    mid, side = half * (audio[0] + audio[1]), half * (audio[0] - audio[1])
    kept = mono_low(border_hz, rate_hz).run(side.reshape(1, -1), looped=looped)[0]
    return np.ascontiguousarray(np.stack([mid + kept, mid - kept]))
