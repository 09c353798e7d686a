"""The notes of a bass in a recording: where each begins and ends, its pitch and its level; their tempo and tuning.

A note begins where the sound rises (`onsets`) or where its pitch changes and stays. What cannot be told apart, such as
a note that is struck again without a gap or a rise, is no note of its own: it is told as doubtful, not guessed.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.measure.onsets import onsets
from apilado.core.measure.pitch import pitch_hz
from apilado.core.units import gain_to_db

LONGEST_S = 180.0
"""No stack is much longer."""
HOP_S, WINDOW_S = 0.01, 0.07
"""Of the track of pitches."""
LEVEL_S = 0.005
CHANGED_CENTS, STAYS_S = 70.0, 0.04
CLOSEST_S = 0.045
"""Two beginnings nearer than this are one."""
BODY_S, SKIPPED_S, SHORTEST_BODY_S = 0.3, 0.02, 0.05
"""Of a note, that whose pitch is measured, without its attack."""
SILENT_DB, RISEN_DB, ENDS_DB = -45.0, 2.5, -30.0
"""Under the loudest moment: silence. Over what was before: risen. Under its own peak: ended."""
BACK_S, ON_S, QUIET_BLOCKS = 0.045, 0.03, 8
"""From where to where around a rise its beginning is looked for; the first milliseconds are what was before."""
ENDED_S, ENDED_DB = 0.08, -20.0
LOOKS_BACK_S, LOOKS_ON_S = 0.04, 0.05
ON_GRID = 0.9
"""So much of the beginnings has to lie on a grid, 1 all of them exactly."""
USUAL_BPM, FAR_FROM_USUAL = 115.0, 0.4
LOWEST_BPM, HIGHEST_BPM, GRID = 60.0, 190.0, 4
"""Tempi that are looked for, and parts of a beat on which notes lie."""


@dataclass(frozen=True)
class HeardNote:
    """One note of a recording."""

    start_s: float
    end_s: float
    hertz: float
    level_db: float
    """Its peak, in dB under full scale."""


@dataclass(frozen=True)
class Reading:
    """What was read in a recording."""

    notes: tuple[HeardNote, ...]
    doubtful_s: tuple[float, ...]
    """Where something begins of which no note can be told: no pitch, or the same again without a rise."""
    tuning_cents: float
    """By how much the notes lie higher than concert pitch, -50 to 50."""
    tempo_bpm: float | None
    """None where the notes lie on no steady grid."""


def read_notes(audio: Audio, rate_hz: int) -> Reading:
    """The notes of audio of shape (channels, frames), of its first three minutes at most."""
    audio = audio[:, : round(LONGEST_S * rate_hz)]
    mono = np.asarray(np.mean(audio, axis=0, dtype=np.float64))
    levels = _levels(mono, rate_hz)
    if mono.shape[0] < rate_hz * SHORTEST_BODY_S or np.max(levels) <= -100.0:
        return Reading((), (), 0.0, None)
    risen = [_from_silence(mono, rate_hz, each.seconds) for each in onsets(audio, rate_hz=rate_hz)]
    changed = _changes(mono, rate_hz, levels)
    begins = _merged(risen, changed)
    notes: list[HeardNote] = []
    doubtful: list[float] = []
    for begin, following in itertools.pairwise([*begins, mono.shape[0] / rate_hz]):
        found = _note(mono, rate_hz, levels, begin, following)
        # What has ended at once is the end of what was before, not the beginning of anything.
        loud = notes[-1].level_db if notes else float(np.max(levels))
        lasts = found is not None and _peak(levels, begin + SHORTEST_BODY_S, begin + ENDED_S) > loud + ENDED_DB
        if found is None or found.hertz <= 0.0:
            doubtful += [begin] if lasts else []
        elif notes and _goes_on(notes[-1], found, levels):
            doubtful += [begin] if lasts else []
            last = notes.pop()
            notes.append(HeardNote(last.start_s, found.end_s, last.hertz, max(last.level_db, found.level_db)))
        else:
            notes.append(found)
    starts = np.array([note.start_s for note in notes])
    return Reading(tuple(notes), tuple(doubtful), _tuning(notes), tempo_of(starts))


def _from_silence(mono: NDArray[np.float64], rate_hz: int, at: float) -> float:
    """Where a low sound comes up out of what is quieter: its steepest moment may lie a cycle behind that."""
    block, place = max(1, round(0.001 * rate_hz)), round(at * rate_hz)
    first, last = max(0, place - round(BACK_S * rate_hz)), min(mono.shape[0], place + round(ON_S * rate_hz))
    part = np.abs(mono[first:last])
    tops = np.pad(part, (0, -part.shape[0] % block)).reshape(-1, block).max(axis=1)
    if tops.shape[0] < 2:
        return at
    peak = float(np.max(tops))
    quiet = place - first >= round(BACK_S * rate_hz)
    base = float(np.max(tops[:QUIET_BLOCKS])) if quiet else 0.0
    if base > 0.3 * peak:
        return at
    risen = np.flatnonzero(tops > base + 0.15 * (peak - base))
    return min(at, (first + int(risen[0]) * block) / rate_hz) if risen.size else at


def _levels(mono: NDArray[np.float64], rate_hz: int) -> NDArray[np.float64]:
    """The peak of each 5 ms, in dB."""
    hop = max(1, round(LEVEL_S * rate_hz))
    padded = np.pad(np.abs(mono), (0, -mono.shape[0] % hop))
    return gain_to_db(padded.reshape(-1, hop).max(axis=1))


def _peak(levels: NDArray[np.float64], begin_s: float, end_s: float) -> float:
    first = max(0, round(begin_s / LEVEL_S))
    return float(np.max(levels[first : max(first + 1, round(end_s / LEVEL_S))], initial=-200.0))


def _changes(mono: NDArray[np.float64], rate_hz: int, levels: NDArray[np.float64]) -> list[float]:
    """Where the pitch changes and stays, in seconds."""
    size, hop = round(WINDOW_S * rate_hz), round(HOP_S * rate_hz)
    places = np.arange(0, max(1, mono.shape[0] - size), hop)
    floor = float(np.max(levels)) + SILENT_DB
    track = np.full(places.shape[0], np.nan)
    for index, place in enumerate(places):
        if _peak(levels, place / rate_hz, (place + size) / rate_hz) > floor:
            found = pitch_hz(mono[place : place + size], rate_hz)
            track[index] = np.nan if found is None else 1200.0 * np.log2(found)
    stays = max(2, round(STAYS_S / HOP_S))
    found_at: list[float] = []
    steady, last = np.nan, 0
    index = 0
    while index + stays <= track.shape[0]:
        here = track[index : index + stays]
        if np.any(np.isnan(here)) or np.ptp(here) > CHANGED_CENTS / 2.0:
            index += 1
            continue
        pitch = float(np.median(here))
        if not np.isnan(steady) and abs(pitch - steady) > CHANGED_CENTS:
            between = (int(places[last]) + size // 2, int(places[index]) + size // 2)
            found_at.append(_turn(mono, between, 2.0 ** (steady / 1200.0), 2.0 ** (pitch / 1200.0), rate_hz))
        steady, last = pitch, index + stays - 1
        index += 1
    return found_at


def _turn(mono: NDArray[np.float64], between: tuple[int, int], old_hz: float, new_hz: float, rate_hz: int) -> float:
    """Where one pitch gives way to another, in seconds: up to there the sound is like itself a cycle of the old one
    before, from there on a cycle of the new one later."""
    old, new = round(rate_hz / old_hz), round(rate_hz / new_hz)
    first = max(old, between[0] - round(WINDOW_S * rate_hz / 2))
    last = min(mono.shape[0] - new, between[1] + round(WINDOW_S * rate_hz / 2))
    if last - first < 2:
        return (between[0] + between[1]) / 2.0 / rate_hz
    part = mono[first:last]
    before = np.cumsum((part - mono[first - old : last - old]) ** 2)
    behind = np.cumsum(((part - mono[first + new : last + new]) ** 2)[::-1])[::-1]
    return (first + int(np.argmin(before[:-1] + behind[1:])) + 1) / rate_hz


def _merged(risen: list[float], changed: list[float]) -> list[float]:
    """Beginnings in order, those by a rise before those by a change where they are one."""
    kept = sorted(risen)
    for at in changed:
        if all(abs(at - other) > WINDOW_S for other in kept):
            kept.append(at)
    found: list[float] = []
    for at in sorted(kept):
        if not found or at - found[-1] >= CLOSEST_S:
            found.append(at)
    return found


def _note(
    mono: NDArray[np.float64], rate_hz: int, levels: NDArray[np.float64], begin: float, following: float
) -> HeardNote | None:
    """What sounds from one beginning to the next, at 0 Hz where it has no pitch; None for silence."""
    peak = _peak(levels, begin, following)
    if peak <= np.max(levels) + SILENT_DB:
        return None
    first = round(begin / LEVEL_S)
    heard = levels[first : max(first + 1, round(following / LEVEL_S))] > peak + ENDS_DB
    end = min(following, begin + (int(np.flatnonzero(heard)[-1]) + 1) * LEVEL_S)
    skipped = SKIPPED_S if end - begin > SHORTEST_BODY_S + SKIPPED_S else 0.0
    body = mono[round((begin + skipped) * rate_hz) : round(min(end, begin + skipped + BODY_S) * rate_hz)]
    hertz = pitch_hz(body, rate_hz) if body.shape[0] >= SHORTEST_BODY_S / 2.0 * rate_hz else None
    if hertz is None:  # of a short low note every cycle is needed
        hertz = pitch_hz(mono[round(begin * rate_hz) : round(end * rate_hz)], rate_hz)
    return HeardNote(begin, end, hertz or 0.0, peak)


def _goes_on(before: HeardNote, after: HeardNote, levels: NDArray[np.float64]) -> bool:
    """Whether a beginning is none: the same pitch, and no rise over what was."""
    if abs(1200.0 * np.log2(after.hertz / before.hertz)) > CHANGED_CENTS or after.start_s - before.end_s > CLOSEST_S:
        return False
    was = _lowest(levels, after.start_s - LOOKS_BACK_S, after.start_s)
    return _peak(levels, after.start_s, after.start_s + LOOKS_ON_S) < was + RISEN_DB


def _lowest(levels: NDArray[np.float64], begin_s: float, end_s: float) -> float:
    # The peak of two neighbours: a low note has its quiet moments in every cycle.
    first = max(0, round(begin_s / LEVEL_S))
    part = levels[first : max(first + 2, round(end_s / LEVEL_S))]
    return float(np.min(np.maximum(part[:-1], part[1:]), initial=0.0)) if part.shape[0] > 1 else -200.0


def _tuning(notes: list[HeardNote]) -> float:
    """By how many cents notes lie higher than concert pitch, as a mean round the semitone."""
    if not notes:
        return 0.0
    semitones = np.array([69.0 + 12.0 * np.log2(note.hertz / 440.0) for note in notes])
    return float(np.angle(np.mean(np.exp(2j * np.pi * semitones))) / (2.0 * np.pi) * 100.0)


def tempo_of(starts_s: NDArray[np.float64]) -> float | None:
    """The tempo on whose sixteenths beginnings lie, in beats per minute; None where they lie on none.

    Of tempi that fit about as well the one with most of them on its beats, and not far from a usual one.
    """
    if starts_s.shape[0] < 4:
        return None
    since = starts_s - starts_s[0]
    tempi = np.geomspace(LOWEST_BPM, HIGHEST_BPM, 4000)
    # How far beginnings lie off the grid, as the length of the mean of unit vectors: 1 is on it.
    angles = 2j * np.pi * since[None] * tempi[:, None] * GRID / 60.0
    agree = np.abs(np.mean(np.exp(angles), axis=1))
    best = float(np.max(agree))
    if best < ON_GRID:
        return None
    near = [_refined(since, float(tempo)) for tempo in tempi[agree >= best - 0.02]]
    return max(
        (tempo for tempo in near if LOWEST_BPM <= tempo <= HIGHEST_BPM),
        key=lambda tempo: _likely(since, tempo),
        default=None,
    )


def _likely(since: NDArray[np.float64], tempo: float) -> float:
    """How many beginnings lie on beats, and on halves of them, less how far the tempo lies from a usual one."""
    steps = np.round(since * tempo * GRID / 60.0).astype(int)
    on_grid = float(np.mean(np.where(steps % GRID == 0, 1.0, np.where(steps % (GRID // 2) == 0, 0.5, 0.0))))
    return on_grid - FAR_FROM_USUAL * abs(float(np.log2(tempo / USUAL_BPM)))


def _refined(since: NDArray[np.float64], tempo: float) -> float:
    """A tempo as the straight line through the beginnings says."""
    steps = np.round(since * tempo * GRID / 60.0)
    if np.ptp(steps) == 0.0:
        return tempo
    slope = float(np.polyfit(steps, since, 1)[0])
    return 60.0 / (slope * GRID)
