"""Pitch and level of single notes in a stem."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from apilado.core.dsp.audio import Audio
from apilado.core.units import power_to_db

SETTLE_MS = 15.0
LONGEST_MS = 300.0
PITCH_MS = 160.0
LOWEST_PITCH_HZ, HIGHEST_PITCH_HZ = 18.0, 2000.0
CLEAR, COARSE_HZ = 0.85, 12000.0


@dataclass(frozen=True)
class NoteMeasure:
    """One note in one stem."""

    start_beats: float
    pitch: int
    """MIDI pitch in the pattern."""
    level_db: float
    """Over the note's first 300 ms, relative to a full-scale sine, both channels."""
    frequency_hz: float | None
    """Measured fundamental; None where there is no clear pitch."""


def segment(audio: Audio, start: int, frames: int) -> Audio:
    """Frames from a loop, going on at its start where they pass its end."""
    total = audio.shape[1]
    start %= total
    if start + frames <= total:
        return np.ascontiguousarray(audio[:, start : start + frames])
    index = np.arange(start, start + frames) % total
    return np.ascontiguousarray(audio[:, index])


def pitch_hz(signal: NDArray[np.floating], rate_hz: float) -> float | None:
    """Fundamental of a steady signal, shape (frames,), or None.

    The first high peak of the normalised square difference function, parabolically refined (P. McLeod, G. Wyvill,
    "A smarter way to find pitch", ICMC 2005).
    """
    # Fundamentals lie far below half of a quarter of the rate: means of some frames will do, and are quicker.
    step = max(1, round(rate_hz / COARSE_HZ))
    kept = signal.shape[0] // step * step
    x = np.asarray(signal[:kept], np.float64).reshape(-1, step).mean(axis=1)
    rate_hz = rate_hz / step
    frames = x.shape[0]
    energy = float(np.dot(x, x))
    if frames < 64 or energy < 1e-10 * frames:
        return None
    length = fft.next_fast_len(2 * frames, real=True)
    spectrum = fft.rfft(x, length)
    lags = min(frames - 1, int(rate_hz / LOWEST_PITCH_HZ) + 2)
    correlation = fft.irfft(np.abs(spectrum) ** 2, length)[:lags]
    squares = np.concatenate([[0.0], np.cumsum(x * x)])
    norm = (squares[frames - np.arange(lags)]) + (energy - squares[np.arange(lags)])
    nsdf = np.divide(2.0 * correlation, norm, out=np.zeros(lags), where=norm > 0.0)
    inner = nsdf[1:-1]
    peaks = np.flatnonzero((inner > nsdf[:-2]) & (inner >= nsdf[2:]) & (inner > 0.0)) + 1
    below = np.flatnonzero(nsdf < 0.0)
    if below.size == 0:
        return None
    peaks = peaks[(peaks > below[0]) & (peaks >= rate_hz / HIGHEST_PITCH_HZ)]
    if peaks.size == 0 or float(np.max(nsdf[peaks])) < CLEAR:
        return None
    chosen = int(peaks[np.argmax(nsdf[peaks] >= 0.95 * np.max(nsdf[peaks]))])
    a, b, c = nsdf[chosen - 1 : chosen + 2]
    shift = 0.5 * (a - c) / (a - 2.0 * b + c) if a - 2.0 * b + c != 0.0 else 0.0
    return float(rate_hz / (chosen + shift))


def measure_notes(
    audio: Audio, spans: tuple[tuple[float, int, int, int], ...], *, rate_hz: int, pitches: bool = True
) -> tuple[NoteMeasure, ...]:
    """Level and pitch of notes.

    Args:
        audio: a looped stem, shape (2, frames).
        spans: (start in beats, MIDI pitch, first frame, frames) of each note.
        pitches: whether to measure the fundamentals too.
    """
    settle, longest = round(SETTLE_MS * rate_hz / 1000.0), round(LONGEST_MS * rate_hz / 1000.0)
    measured = []
    for start_beats, pitch, first, frames in spans:
        part = segment(audio, first + min(settle, frames // 2), min(max(frames - settle, frames // 2, 1), longest))
        flat = part.reshape(-1)
        power = 2.0 * float(np.dot(flat, flat)) / flat.shape[0]
        mono = (part[0] + part[1]) / 2.0
        found = pitch_hz(mono[: round(PITCH_MS * rate_hz / 1000.0)], rate_hz) if pitches and power > 1e-8 else None
        measured.append(NoteMeasure(start_beats, pitch, float(power_to_db(power)), found))
    return tuple(measured)
