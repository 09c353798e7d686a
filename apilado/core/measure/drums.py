"""What a drum's single hit is like: its pitch, its punch, its length, how it decays."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.equaliser import butterworth_low_pass
from apilado.core.dsp.filters import filtered
from apilado.core.measure.bands import band_centres, band_sums
from apilado.core.units import gain_to_db, ms_to_samples

FUNDAMENTAL_HZ = (30.0, 150.0)
PUNCH_HZ = (80.0, 250.0)
LOW_HZ = 250.0
SETTLED_MS = 40.0
NEAR_SHARE, TONAL_SHARE = 0.2, 0.35
"""A tail has a pitch when this much of its energy up to 1 kHz lies this near to it."""
ENVELOPE_MS = 12.0
TAIL_DB = 20.0


@dataclass(frozen=True, eq=False)
class DrumFacts:
    """One hit."""

    fundamental_hz: float | None
    """Pitch of its tail, None if it has none between 30 and 150 Hz."""
    punch_hz: float | None
    """Middle of its strongest third-octave from 80 to 250 Hz within the first 60 ms."""
    length_ms: float
    """Until it has come down by 40 dB."""
    tail_ms: float
    """Until its low part, up to 250 Hz, has come down by 20 dB."""
    envelope_db: NDArray[np.float64]
    """Its low part's level against its own peak, a value each millisecond."""


def hit_envelope_db(audio: Audio, *, rate_hz: int) -> NDArray[np.float64]:
    """Peak level over the 12 ms around each millisecond, smoothed over as long, in dB against the whole peak."""
    level = np.max(np.abs(audio), axis=0)
    step, half = rate_hz / 1000.0, ms_to_samples(ENVELOPE_MS / 2.0, rate_hz)
    count = max(1, int(level.shape[0] / step))
    peaks = np.array([np.max(level[max(0, int(i * step) - half) : int(i * step) + half + 1]) for i in range(count)])
    levels = gain_to_db(peaks / max(float(np.max(peaks)), 1e-9))
    # The steps from one half-wave's peak to the next are smoothed over their own length.
    padded = np.pad(levels, round(ENVELOPE_MS / 2.0), mode="edge")
    smooth = np.convolve(padded, np.ones(round(ENVELOPE_MS) + 1) / (round(ENVELOPE_MS) + 1), "valid")
    return np.asarray(smooth[:count], np.float64)


def fallen_ms(envelope_db: NDArray[np.float64], by_db: float) -> float:
    """When an envelope is last above its peak less `by_db`, in ms from the hit."""
    above = np.flatnonzero(envelope_db > -by_db)
    return float(above[-1] + 1) if above.size else 0.0


def drum_facts(audio: Audio, *, rate_hz: int) -> DrumFacts:
    """Measures one hit of shape (2, frames)."""
    low = filtered(audio, butterworth_low_pass(LOW_HZ, 24, rate_hz), looped=False)
    envelope = hit_envelope_db(low, rate_hz=rate_hz)
    mono = (audio[0] + audio[1]) / 2.0
    return DrumFacts(
        fundamental_hz=_fundamental(mono, rate_hz),
        punch_hz=_punch(mono, rate_hz),
        length_ms=fallen_ms(hit_envelope_db(audio, rate_hz=rate_hz), 40.0),
        tail_ms=fallen_ms(envelope, TAIL_DB),
        envelope_db=envelope,
    )


def _spectrum(mono: NDArray[np.float32], rate_hz: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    size = max(2**16, fft.next_fast_len(mono.shape[0], real=True))
    return np.abs(fft.rfft(mono, size)), np.arange(size // 2 + 1) * (rate_hz / size)


def _fundamental(mono: NDArray[np.float32], rate_hz: int) -> float | None:
    tail = mono[ms_to_samples(SETTLED_MS, rate_hz) :]
    if tail.shape[0] < rate_hz // 50:
        return None
    spectrum, frequencies = _spectrum(tail * np.hanning(tail.shape[0]).astype(np.float32), rate_hz)
    inside = (frequencies >= FUNDAMENTAL_HZ[0]) & (frequencies <= FUNDAMENTAL_HZ[1])
    best = int(np.argmax(np.where(inside, spectrum, 0.0)))
    found = float(frequencies[best])
    powers = spectrum**2
    near = np.abs(frequencies - found) < NEAR_SHARE * found
    whole = float(np.sum(powers[(frequencies > FUNDAMENTAL_HZ[0] / 2.0) & (frequencies < 1000.0)]))
    return found if whole > 0.0 and float(np.sum(powers[near])) > TONAL_SHARE * whole else None


def _punch(mono: NDArray[np.float32], rate_hz: int) -> float | None:
    spectrum, frequencies = _spectrum(mono[: round(0.06 * rate_hz)], rate_hz)
    powers = band_sums(spectrum**2, frequencies, 3)
    centres = band_centres(3)
    inside = (centres >= PUNCH_HZ[0]) & (centres <= PUNCH_HZ[1])
    best = int(np.argmax(np.where(inside, powers, 0.0)))
    return float(centres[best]) if powers[best] > 0.0 else None


@dataclass(frozen=True)
class Fit:
    """The drawn shape that follows a hit's decay."""

    hold_ms: float
    release_ms: float
    curve: float
    deviation_db: float
    """Largest distance between the shape and the duck that the decay asks for."""


def fitted_shape(envelope_db: NDArray[np.float64], *, depth_db: float, longest_ms: float) -> Fit:
    """Hold, release and curve of a duck of some depth that follows a decay, found on a grid by least squares.

    The duck wanted is whole when the hit is at its loudest and over when it has come down by 20 dB; hold and release
    together are at most `longest_ms`.
    """
    wanted = depth_db * np.clip(1.0 + envelope_db / TAIL_DB, 0.0, 1.0)
    # A decay does not rise again: the last moment at which it is above a level counts.
    wanted = np.maximum.accumulate(wanted[::-1])[::-1]
    wanted = wanted[: max(2, math.floor(longest_ms))]
    t = np.arange(wanted.shape[0]) + 0.5
    end = max(6.0, min(longest_ms, float(np.count_nonzero(wanted > 0.0))))
    best = (math.inf, 0.0, end, 0.0, 0.0)
    for hold in np.linspace(0.0, 0.7, 15) * end:
        release = end - hold
        for curve in np.linspace(-0.8, 0.8, 9):
            back = np.clip(1.0 - (t - hold) / release, 0.0, 1.0) ** (4.0 ** (-curve))
            error = depth_db * np.where(t < hold, 1.0, back) - wanted
            found = (float(np.sum(error**2)), float(hold), float(release), float(curve), float(np.max(np.abs(error))))
            best = min(best, found)
    _, hold_ms, release_ms, curve_value, deviation = best
    return Fit(round(hold_ms), max(5.0, round(release_ms)), round(curve_value, 2), deviation)
