"""Linear-phase filters: symmetric taps applied about their middle, so that nothing is delayed.

The low side of a border is the zero-phase form of the Linkwitz–Riley magnitude 1/(1 + (f/f₀)^(2n)), with n = 1, 2, 4
for 12, 24, 48 dB per octave; the high side is what is left of the signal. Both are -6.02 dB at the border, and their
sum is the signal itself, whatever the length of the taps.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy import fft
from scipy.signal import firwin, kaiserord, oaconvolve

from apilado.core.dsp.audio import Audio, as_audio, wrapped_tail

TRUNCATED_DB = 110.0
HEARD_DB = 60.0
MONO_STOP_DB = 75.0
MONO_TRANSITION = 0.25
"""The side signal is back this share above a mono border."""


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


@lru_cache(maxsize=64)
def low_side(frequency_hz: float, slope_db_per_octave: int, rate_hz: int) -> Taps:
    """The low side of a linear-phase border."""
    count = tap_count(frequency_hz, slope_db_per_octave, rate_hz)
    size = fft.next_fast_len(8 * count, real=True)
    frequencies = np.arange(size // 2 + 1) * (rate_hz / size)
    magnitude = 1.0 / (1.0 + (frequencies / frequency_hz) ** (slope_db_per_octave / 6.0))
    impulse = np.fft.irfft(magnitude, size)
    half = count // 2
    taps = np.concatenate([impulse[-half:], impulse[: half + 1]])
    return Taps(taps / np.sum(taps))


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
