"""Conversions between the units of the trade. Scalars or arrays in, the same shape out."""

from __future__ import annotations

import math
import re
from types import MappingProxyType
from typing import TypeVar, cast

import numpy as np
from numpy.typing import NDArray

Number = TypeVar("Number", float, NDArray[np.float64])

NOTE_NAMES = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
NATURALS = MappingProxyType({"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11})
SIGNS = MappingProxyType({"": 0, "#": 1, "♯": 1, "b": -1, "♭": -1})
HIGHEST_MIDI = 127
SILENCE_DB = -150.0
"""Level that stands for silence; -inf never leaves a conversion."""


def db_to_gain(level_db: Number) -> Number:
    """Amplitude ratio of a level in decibels: 10^(dB/20)."""
    return cast(Number, np.power(10.0, np.asarray(level_db) / 20.0)[()])


def gain_to_db(gain: Number) -> Number:
    """Level in decibels of an amplitude ratio, not below `SILENCE_DB`."""
    floor = 10.0 ** (SILENCE_DB / 20.0)
    return cast(Number, (20.0 * np.log10(np.maximum(np.abs(gain), floor)))[()])


def power_to_db(power: Number) -> Number:
    """Level in decibels of a power ratio, not below `SILENCE_DB`."""
    floor = 10.0 ** (SILENCE_DB / 10.0)
    return cast(Number, (10.0 * np.log10(np.maximum(power, floor)))[()])


def power_ratio_db(part: float, whole: float) -> float:
    """Level in dB of one power against another, however quiet both are; `-SILENCE_DB` where the other is nothing."""
    if whole <= 0.0:
        return SILENCE_DB if part <= 0.0 else -SILENCE_DB
    return float(power_to_db(part / whole))


def midi_to_hz(pitch: Number) -> Number:
    """Frequency of a MIDI pitch in equal temperament, A4 = 69 = 440 Hz."""
    return cast(Number, (440.0 * np.power(2.0, (np.asarray(pitch) - 69.0) / 12.0))[()])


def hz_to_midi(frequency_hz: Number) -> Number:
    """MIDI pitch of a frequency, with its fraction."""
    return cast(Number, (69.0 + 12.0 * np.log2(np.asarray(frequency_hz) / 440.0))[()])


def midi_to_name(pitch: float) -> str:
    """Name of the nearest note, middle C = C4 = 60: 28 is 'E1'."""
    nearest = math.floor(pitch + 0.5)
    return f"{NOTE_NAMES[nearest % 12]}{nearest // 12 - 1}"


def name_to_midi(name: str) -> int:
    """The MIDI pitch of a note's name, middle C = C4 = 60, or of its number: 'E1', 'f#1', 'Bb2', '28'.

    Raises:
        ValueError: it is neither.
    """
    found = re.fullmatch(r"([A-Ga-g])([#b♯♭]?)\s*(-?\d{1,2})|(\d{1,3})", name.strip())
    if not found:
        raise ValueError(f"'{name[:20]}' is no pitch: a note as C2 or F#1, or a MIDI number")
    letter, sign, octave, number = found.groups()
    pitch = int(number) if number else NATURALS[letter.upper()] + SIGNS[sign] + 12 * (int(octave) + 1)
    if not 0 <= pitch <= HIGHEST_MIDI:
        lowest, highest = midi_to_name(0), midi_to_name(HIGHEST_MIDI)
        raise ValueError(f"pitches run from {lowest} to {highest}; {name.strip()} was not taken")
    return pitch


def bar_and_beat(beats: float, beats_per_bar: int) -> str:
    """A place as it is spoken, bars and beats counted from 1: 5.5 beats after the start are 'bar 2, beat 2.5'."""
    bar, beat = divmod(beats + 1e-9, beats_per_bar)
    return f"bar {int(bar) + 1}, beat {round(beat, 3) + 1.0:g}"


def cents_to_ratio(cents: Number) -> Number:
    """Frequency ratio of an interval in cents."""
    return cast(Number, np.power(2.0, np.asarray(cents) / 1200.0)[()])


def beats_to_seconds(beats: float, tempo_bpm: float) -> float:
    """Duration of a number of beats."""
    return beats * 60.0 / tempo_bpm


def beats_to_samples(beats: float, tempo_bpm: float, rate_hz: int) -> int:
    """Sample nearest to a position in beats, rounded from the exact time: positions never drift."""
    return math.floor(beats * 60.0 * rate_hz / tempo_bpm + 0.5)


def ms_to_samples(duration_ms: float, rate_hz: float) -> int:
    """Nearest whole number of samples in a duration."""
    return math.floor(duration_ms * rate_hz / 1000.0 + 0.5)


def short_hz(frequency_hz: float) -> str:
    """A frequency as it is written on a drawing or in a line."""
    if frequency_hz >= 1000.0:
        return f"{frequency_hz / 1000.0:.2f}".rstrip("0").rstrip(".") + " kHz"
    return f"{frequency_hz:.0f} Hz"
