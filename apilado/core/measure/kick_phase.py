"""Kick against sub: how they add up in the first cycles of each hit, and with what polarity and offset they would."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.breaking_off import may_break_off
from apilado.core.measure.windows import take_windows
from apilado.core.units import gain_to_db, ms_to_samples, power_to_db

LOW_HZ, HIGH_HZ = 30.0, 140.0
FIRST_MS = 120.0
FURTHEST_MS = 8.0
APART_DB = -25.0
POINTS_A_PERIOD = 64
TOGETHER = 16
"""Hits that are looked at at a time."""


@dataclass(frozen=True)
class KickMeeting:
    """Over all hits together, from 30 to 140 Hz."""

    phase_deg: float
    """Of the sub against the kick."""
    balance_db: float
    """The quieter against the louder."""
    gain_db: float
    """Coherence gain as it is."""
    inverted_db: float
    """With the kick's polarity turned."""
    best_invert: bool
    best_offset_frames: int
    """Of the kick, positive later."""
    best_db: float
    peak_db: float
    """Of kick and sub together in these stretches, in that band, as it is."""
    best_peak_db: float

    @property
    def meets(self) -> bool:
        """Whether both are loud enough at the same time for their phase to matter."""
        return self.balance_db > APART_DB


def kick_meeting(kick: Audio, sub: Audio, hits: tuple[int, ...], *, rate_hz: int) -> KickMeeting | None:
    """How a looped kick and a looped sub meet at the hits, given in frames; None without hits."""
    if not hits:
        return None
    count = ms_to_samples(FIRST_MS, rate_hz)
    size = fft.next_fast_len(2 * count, real=True)
    low, high = math.floor(LOW_HZ * size / rate_hz), math.ceil(HIGH_HZ * size / rate_hz) + 1
    # Falls over the stretch: the first cycles count most, and the end is no edge.
    window = (0.5 + 0.5 * np.cos(np.pi * np.arange(count) / count)).astype(np.float32)
    kicks, subs = (_lines_at(audio, hits, window, size, low, high) for audio in (kick, sub))
    power_kick, power_sub = float(np.sum(np.abs(kicks) ** 2)), float(np.sum(np.abs(subs) ** 2))
    apart = power_kick + power_sub
    if min(power_kick, power_sub) <= 1e-12:
        return None
    cross = np.sum(np.conj(kicks) * subs, axis=0)
    frequencies = np.arange(low, high) * rate_hz / size
    furthest = ms_to_samples(FURTHEST_MS, rate_hz)
    offsets = np.arange(-furthest, furthest + 1)
    sums = 2.0 * np.real(np.exp(2j * np.pi * np.outer(offsets / rate_hz, frequencies)) @ cross) / apart

    def gain(value: float) -> float:
        return float(power_to_db(max(1.0 + value, 1e-6)))

    present = float(sums[furthest])
    worth = sums - 1e-6 * np.abs(offsets), -sums - 1e-6 * np.abs(offsets) - 1e-3  # of equals the smallest offset
    inverted, index = divmod(int(np.argmax(np.concatenate(worth))), len(offsets))
    best = (-1.0 if inverted else 1.0, index)
    return KickMeeting(
        phase_deg=math.degrees(np.angle(np.sum(cross))),
        balance_db=float(power_to_db(min(power_kick, power_sub) / max(power_kick, power_sub))),
        gain_db=gain(present),
        inverted_db=gain(-present),
        best_invert=best[0] < 0.0,
        best_offset_frames=int(offsets[best[1]]),
        best_db=gain(best[0] * float(sums[best[1]])),
        peak_db=_peak_db(kicks + subs, low, size),
        best_peak_db=_peak_db(_turned(kicks, frequencies, best, offsets, rate_hz) + subs, low, size),
    )


def _lines_at(
    audio: Audio, hits: tuple[int, ...], window: NDArray[np.float32], size: int, low: int, high: int
) -> NDArray[np.complex128]:
    """Some lines of the spectra of what begins at each hit, both channels together, made longer to a size; shape
    (hits, lines)."""
    found = np.empty((len(hits), high - low), np.complex128)
    for first in range(0, len(hits), TOGETHER):
        may_break_off()
        some = np.array(hits[first : first + TOGETHER])
        parts = np.zeros((2, some.shape[0], size), np.float32)
        for channel in (0, 1):
            take_windows(audio[channel], some, window, parts[channel, :, : window.shape[0]])
        found[first : first + some.shape[0]] = fft.rfft((parts[0] + parts[1]) / 2.0, axis=1)[:, low:high]
    return found


def _turned(
    kicks: NDArray[np.complex128],
    frequencies_hz: NDArray[np.float64],
    option: tuple[float, int],
    offsets: NDArray[np.int64],
    rate_hz: int,
) -> NDArray[np.complex128]:
    lag = float(offsets[option[1]]) / rate_hz
    return np.asarray(option[0] * kicks * np.exp(-2j * np.pi * frequencies_hz * lag))


def _peak_db(spectra: NDArray[np.complex128], low: int, size: int) -> float:
    """Largest magnitude of the signals of these bins alone: of their highest wave, within 3° of its crests."""
    last = low + spectra.shape[1]
    points = min(size, fft.next_fast_len(POINTS_A_PERIOD * last, real=True))
    peak = 0.0
    for first in range(0, spectra.shape[0], TOGETHER):
        may_break_off()
        some = spectra[first : first + TOGETHER]
        whole = np.zeros((some.shape[0], points // 2 + 1), np.complex128)
        whole[:, low:last] = some
        peak = max(peak, float(np.max(np.abs(fft.irfft(whole, points, axis=1)))))
    return float(gain_to_db(peak * points / size))
