"""Pitch by playing faster or slower."""

from __future__ import annotations

import soxr

from apilado.core.dsp.audio import Audio, as_audio


def repitched(audio: Audio, semitones: float) -> Audio:
    """The audio played 2^(semitones/12) times as fast, resampled by soxr; the rate stays."""
    if semitones == 0.0:
        return audio
    return as_audio(soxr.resample(audio.T, 2.0 ** (semitones / 12.0), 1.0, quality="VHQ").T)
