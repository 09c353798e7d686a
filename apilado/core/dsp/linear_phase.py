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

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.curves import Curve, Value
from apilado.core.dsp.designs import convolution, sinc_taps_for, taps_needed
from apilado.core.dsp.filters import SETTLED, Sections, sections_response, settle_frames
from apilado.core.dsp.lead_in import with_ends, wrapped_tail
from apilado.core.dsp.stereo import mixed_at

TRUNCATED_DB = 110.0
HEARD_DB = 60.0
ON_CIRCLE = 1e-4
"""Double roots come out of their solver this far apart."""
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
        padded = with_ends(audio, len(self.taps) // 2, looped=looped)
        kept = convolution(padded, self.taps.astype(np.float32)[None, :], mode="valid")
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


KINKED_SECONDS = 4.0
"""How long a magnitude with a kink is followed in a single pass: what is left by then lies under -85 dB."""


def zero_phase(audio: Audio, sections: Sections, rate_hz: int, *, looped: bool) -> Audio:
    """The audio under the magnitude of a cascade and no phase at all; same shape.

    Multiplied in frequency, with room for all that the cascade rings until it has decayed to `SETTLED`: nothing is cut
    short, however narrow and low a point is. A loop that is shorter than that is taken at its exact length, where the
    product is the steady state itself; so is any loop under a magnitude with a kink, which rings on for ever, if ever
    more softly. What rings before the first frame of a single pass is lost with it.
    """
    frames, rings = audio.shape[1], settle_frames(sections)
    kinked = has_kink(sections)
    if looped and (kinked or rings > frames):
        size, ahead, padded = frames, 0, audio
    elif looped:
        size, ahead = fft.next_fast_len(frames + 2 * rings, real=True), rings
        padded = np.concatenate([wrapped_tail(audio, rings), audio, audio[:, :rings]], axis=1)
    else:
        # What rings before the first frame comes round to the end of the padding, where it is dropped.
        rings = max(rings, math.ceil(KINKED_SECONDS * rate_hz)) if kinked else rings
        size, ahead, padded = fft.next_fast_len(frames + rings, real=True), 0, audio
    magnitude = np.abs(sections_response(sections, np.arange(size // 2 + 1) * (rate_hz / size), rate_hz))
    spectra = fft.rfft(padded, size, axis=1)
    out = fft.irfft(spectra * magnitude.astype(np.float32), size, axis=1)
    return as_audio(out[:, ahead : ahead + frames])


def has_kink(sections: Sections) -> bool:
    """Whether the magnitude of a cascade touches zero in a kink: a notch, or a cut of odd order."""
    zeros = np.concatenate([np.roots(section[:3]) for section in sections]) if len(sections) else np.zeros(0)
    on_circle = zeros[np.abs(np.abs(zeros) - 1.0) < ON_CIRCLE]
    return any(np.count_nonzero(np.abs(on_circle - zero) < 2.0 * ON_CIRCLE) % 2 for zero in on_circle)


def rings_ms(sections: Sections, rate_hz: int) -> float:
    """How long a cascade rings until it is 60 dB down; under a linear phase, before a sound as well as after it."""
    return 1000.0 * settle_frames(sections) / rate_hz * HEARD_DB / (-20.0 * math.log10(SETTLED))


MOST_BAND_TAPS = 2**17 + 1
BAND_ORDER = 8
"""Of 1/(1 + v^8), the magnitude² of a band that is ducked: 48 dB per octave when applied twice."""


@lru_cache(maxsize=32)
def band_taps(low_hz: float, high_hz: float, rate_hz: int) -> Taps:
    """A band from `low_hz` (0: from the bottom) to `high_hz`; twice it is whole in its middle, -6.02 dB at the edges.

    1/(1 + v^8) with v = f/high for a band from the bottom, else the usual low-pass to band-pass turn
    v = (f² - low·high)/(f·(high - low)): v is 0 at the geometric middle and ±1 at the edges, however near they are.
    """

    def magnitude(f: NDArray[np.float64]) -> NDArray[np.float64]:
        with np.errstate(divide="ignore", over="ignore"):
            v = f / high_hz if low_hz <= 0.0 else (f * f - low_hz * high_hz) / (f * (high_hz - low_hz))
            return np.asarray(1.0 / np.sqrt(1.0 + v**BAND_ORDER))

    # A band-pass rings as long as the low-pass of half its width.
    count = tap_count(high_hz if low_hz <= 0.0 else min(low_hz, (high_hz - low_hz) / 2.0), 48, rate_hz)
    return taps_from_magnitude(magnitude, min(count, MOST_BAND_TAPS), rate_hz)


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
    half_hz = rate_hz / 2.0
    count = taps_needed(MONO_STOP_DB, MONO_TRANSITION * border_hz / half_hz)
    middle_hz = border_hz * (1.0 + MONO_TRANSITION / 2.0)
    return Taps(sinc_taps_for(count | 1, middle_hz / half_hz, MONO_STOP_DB), rest=True)


LOWEST_MONO_HZ = 5.0
"""A mono border below this is none."""
MONO_HOP_MS = 4.0


def mono_below(audio: Audio, border_hz: Value, *, rate_hz: int, looped: bool) -> Audio:
    """Stereo audio whose side signal is taken away below a border; the mid is not touched at all. Shape (2, frames)."""
    half = np.float32(0.5)
    mid, side = half * (audio[0] + audio[1]), half * (audio[0] - audio[1])
    if isinstance(border_hz, Curve):
        kept = _moving_side(side, border_hz, rate_hz=rate_hz, looped=looped)
    else:
        kept = mono_low(border_hz, rate_hz).run(side.reshape(1, -1), looped=looped)[0]
    return np.ascontiguousarray(np.stack([mid + kept, mid - kept]))


def _moving_side(side: Audio, border_hz: Curve, *, rate_hz: int, looped: bool) -> Audio:
    """What a mono border that moves keeps of the side signal, shape (frames,).

    The side is cut into pieces that overlap by half and add up to it; each goes through the filter of its middle.
    Where the border stands still that is the filter itself.
    """
    frames, hop = side.shape[0], max(1, round(MONO_HOP_MS * rate_hz / 1000.0))
    hop = min(hop, frames)
    count = math.ceil(frames / hop)
    edges = np.round(np.linspace(0, frames, count + 1)).astype(int)
    out = np.zeros((1, frames), np.float32)
    for index in range(count + (0 if looped else 1)):
        middle = int(edges[index])
        before = middle - int(edges[index - 1]) if index else int(edges[-1] - edges[-2])
        after = int(edges[index + 1]) - middle if index < count else before
        rise = (np.arange(before) + 0.5) / before
        window = np.concatenate([rise, 1.0 - (np.arange(after) + 0.5) / after]).astype(np.float32)
        at = middle - before + np.arange(before + after)
        inside = (at >= 0) & (at < frames)
        piece = side[at % frames] * window if looped else np.where(inside, side[at % frames], 0.0) * window
        hertz = float(np.interp(middle % frames if looped else min(middle, frames), border_hz.at, border_hz.values))
        if hertz < LOWEST_MONO_HZ:
            kept, ahead = piece, 0
        else:
            taps = mono_low(hertz, rate_hz)
            ahead = len(taps.taps) // 2
            piece = np.pad(piece, ahead)
            kept = piece - convolution(piece, taps.taps.astype(np.float32), mode="same")
        mixed_at(out, as_audio(kept[None]), middle - before - ahead, looped=looped)
    kept_side: Audio = out[0]
    return kept_side
