"""Pitch and level of single notes in a stem."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, peak_of
from apilado.core.dsp.breaking_off import may_break_off
from apilado.core.dsp.kernels import summing_kernel
from apilado.core.measure.pitch import pitches_hz
from apilado.core.measure.windows import hann_within
from apilado.core.units import ms_to_samples, power_to_db

SETTLE_MS = 15.0
LONGEST_MS = 300.0
PITCH_MS = 160.0
ATTACK_MS = 3.0
PHASOR_STEP = 256
QUIET = 1e-4
TOGETHER = 16
"""Notes that are looked at at a time."""


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


@dataclass(frozen=True)
class NoteSpan:
    """Where a note is to be found in a stem, and what pitch it should have there."""

    start_beats: float
    pitch: int
    """MIDI pitch in the pattern."""
    first: int
    """Its first frame."""
    frames: int
    expected_hz: float
    """Its fundamental as the layer's source makes it."""


def measure_notes(
    audio: Audio, spans: tuple[NoteSpan, ...], *, rate_hz: int, pitches: bool = True
) -> tuple[NoteMeasure, ...]:
    """Level and pitch of notes in a looped stem, shape (2, frames); without `pitches` only their levels."""
    settle, longest = ms_to_samples(SETTLE_MS, rate_hz), ms_to_samples(LONGEST_MS, rate_hz)
    steady = ms_to_samples(PITCH_MS, rate_hz)
    measured = []
    for first in range(0, len(spans), TOGETHER):
        may_break_off()
        some, parts = spans[first : first + TOGETHER], []
        for span in some:
            begun = min(settle, span.frames // 2)
            parts.append(segment(audio, span.first + begun, min(max(span.frames - begun, 1), longest)))
        found: list[float | None] = [None] * len(parts)
        if pitches:
            # Of what is measured the last: a pitch that drops at the start has settled by then.
            ends = [(part[0, -steady:] + part[1, -steady:]) / 2.0 for part in parts]
            heard = [n for n, part in enumerate(parts) if peak_of(part) > QUIET]
            for n, hertz in zip(heard, pitches_hz([ends[n] for n in heard], rate_hz), strict=True):
                found[n] = hertz
        for span, part, hertz in zip(some, parts, found, strict=True):
            power = _note_power(audio, span, part, hertz or span.expected_hz, rate_hz)
            measured.append(NoteMeasure(span.start_beats, span.pitch, float(power_to_db(power)), hertz))
    return tuple(measured)


def _note_power(audio: Audio, span: NoteSpan, part: Audio, hertz: float, rate_hz: int) -> float:
    """Mean power of a note, a full-scale sine in both channels being 1, without the ripple of unfinished periods."""
    period = rate_hz / hertz
    if part.shape[1] >= 1.05 * period:
        return float(power_in_whole_periods(part, period))
    # Shorter than a period: the sine of its pitch that fits best, from where its attack is over.
    begun = min(ms_to_samples(ATTACK_MS, rate_hz), span.frames // 4)
    short = segment(audio, span.first + begun, max(span.frames - begun, 8)).astype(np.float64)
    angle = 2.0 * np.pi * np.arange(short.shape[1]) / period
    fitted = np.linalg.lstsq(np.stack([np.cos(angle), np.sin(angle)], axis=1), short.T, rcond=None)[0]
    return float(np.sum(fitted**2)) / 2.0


@summing_kernel
def power_in_whole_periods(part: Any, period: float) -> float:
    """Mean power of both channels under weights that give every phase of a period as much: even, with flanks of one.

    It is free of the ripple at any multiple of the wave's frequency, whatever the period's length in frames: the
    weights are a box convolved with a box of one period.

    Args:
        part: shape (2, frames), longer than a period.
        period: in frames.
    """
    left, right = part[0], part[1]
    frames, power, weights = left.shape[0], 0.0, 0.0
    most = min(1.0, (frames - period) / period)
    for n in range(frames):
        weight = min(most, min(n + 0.5, frames - n - 0.5) / period)
        power += weight * (float(left[n]) * float(left[n]) + float(right[n]) * float(right[n]))
        weights += weight
    return power / weights


def levels_at(
    stem: Audio, *, spans: tuple[NoteSpan, ...], frequencies_hz: tuple[float, ...], rate_hz: int
) -> tuple[float | None, ...]:
    """Power of a frequency in each note of a looped stem while it alone sounds; a full-scale sine is 1.

    The mean of both channels under a Hann window; None where a note is too short: two periods are needed to keep its
    fundamental apart from its octave.
    """
    settle, longest = ms_to_samples(SETTLE_MS, rate_hz), ms_to_samples(LONGEST_MS, rate_hz)
    found: list[float | None] = []
    for span, hertz in zip(spans, frequencies_hz, strict=True):
        begun = min(settle, span.frames // 4)
        frames = min(span.frames - begun, longest)
        if frames < 2.0 * rate_hz / hertz:
            found.append(None)
            continue
        part = segment(stem, span.first + begun, frames)
        found.append(float(power_of_wave(part, hann_within(frames), hertz / rate_hz)))
    return tuple(found)


@summing_kernel
def power_of_wave(part: Any, window: Any, cycles_per_frame: float) -> float:
    """Power of one frequency in a part, the mean of both channels, under a window; a full-scale sine is 1.

    A short turn of the wave serves for every stretch of it: what a stretch comes to is turned by where it begins.

    Args:
        part: shape (2, frames).
        window: shape (frames,).
    """
    left, right = part[0], part[1]
    step = 2.0 * np.pi * cycles_per_frame
    turns_re, turns_im = np.empty(PHASOR_STEP), np.empty(PHASOR_STEP)
    for n in range(PHASOR_STEP):
        turns_re[n], turns_im[n] = np.cos(step * n), np.sin(step * n)
    left_re = left_im = right_re = right_im = weights = 0.0
    for first in range(0, left.shape[0], PHASOR_STEP):
        end = min(first + PHASOR_STEP, left.shape[0])
        lefts, rights, shares = left[first:end], right[first:end], window[first:end]
        a = b = c = d = 0.0
        for n in range(shares.shape[0]):
            x, y = shares[n] * lefts[n], shares[n] * rights[n]
            a += x * turns_re[n]
            b += x * turns_im[n]
            c += y * turns_re[n]
            d += y * turns_im[n]
            weights += shares[n]
        re, im = np.cos(step * first), np.sin(step * first)
        left_re += a * re - b * im
        left_im += a * im + b * re
        right_re += c * re - d * im
        right_im += c * im + d * re
    total = left_re * left_re + left_im * left_im + right_re * right_re + right_im * right_im
    return 2.0 * total / (weights * weights)


def phasor(cycles_per_frame: float, frames: int) -> NDArray[np.complex128]:
    """e^(-2πi·c·n) for n from 0, shape (frames,): made of two short ones, since exponentials are dear."""
    coarse = np.exp(-2j * np.pi * cycles_per_frame * PHASOR_STEP * np.arange(-(-frames // PHASOR_STEP)))
    fine = np.exp(-2j * np.pi * cycles_per_frame * np.arange(PHASOR_STEP))
    return np.asarray((coarse[:, None] * fine).reshape(-1)[:frames], np.complex128)
