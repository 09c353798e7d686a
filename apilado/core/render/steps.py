"""The functions that stages call: plain arrays and models in, arrays out."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.document.equaliser import Point, eq_sections
from apilado.core.document.kick import KickSound
from apilado.core.document.stack import Crossover, Duck, Limiter, borders_of
from apilado.core.dsp.audio import Audio, as_stereo
from apilado.core.dsp.crossovers import cut, split
from apilado.core.dsp.dynamics import limited, reduced, whole_reduction
from apilado.core.dsp.filters import filtered
from apilado.core.dsp.linear_phase import mono_below
from apilado.core.dsp.stereo import mixed_at, moved, placed
from apilado.core.notes import Note, voice_notes
from apilado.core.sources.base import AssetLoader, Score, Source
from apilado.core.treatments.base import Treatment
from apilado.core.units import db_to_gain

NOTE_LEVEL_RAMP_MS = 4.0


def play_source(*, source: Source, score: Score, clock: Clock, load: AssetLoader) -> Audio:
    """A layer's raw sound."""
    return source.render(score, clock, load)


def split_bands(audio: Audio, *, crossovers: tuple[Crossover, ...], first: int, last: int, clock: Clock) -> Audio:
    """What a run of bands keeps of the audio."""
    piece = cut(borders_of(crossovers, clock.rate_hz), first, last)
    return split(audio, piece, rate_hz=clock.rate_hz, looped=clock.looped)


def treat(audio: Audio, *, treatment: Treatment, clock: Clock) -> Audio:
    """One treatment."""
    return treatment.process(audio, clock)


def equalise(audio: Audio, *, points: tuple[Point, ...], clock: Clock) -> Audio:
    """All points of an EQ."""
    return filtered(audio, eq_sections(points, clock.rate_hz), rate_hz=clock.rate_hz, looped=clock.looped)


def place(
    audio: Audio,
    *,
    width: float,
    mono: bool,
    pan: float,
    level_db: float,
    inverted: bool,
    delay_ms: float,
    note_levels: tuple[tuple[int, float], ...],
    notes: tuple[Note, ...],
    clock: Clock,
) -> Audio:
    """Width, mono, pan, polarity, delay, level and the levels of single notes; always two channels."""
    gain: float | NDArray[np.float32] = float(db_to_gain(level_db)) * (-1.0 if inverted else 1.0)
    if note_levels:
        gain = np.float32(gain) * note_gain(dict(note_levels), notes, clock)
    out = placed(audio, width=width, mono=mono, pan=pan, gain=gain)
    return moved(out, clock.samples_in_ms(delay_ms), looped=clock.looped)


def note_gain(levels_db: dict[int, float], notes: tuple[Note, ...], clock: Clock) -> NDArray[np.float32]:
    """A gain per frame that holds each note's level from its start to the next note's, with short ramps."""
    played = voice_notes(notes, clock.beats)
    if not played:
        return np.ones(clock.frames, np.float32)
    starts = [clock.sample_at(note.start_beats) for note in played]
    gains = [float(db_to_gain(levels_db.get(note.pitch, 0.0))) for note in played]
    ramp = max(1, clock.samples_in_ms(NOTE_LEVEL_RAMP_MS))
    before = gains[-1] if clock.looped else gains[0]
    at: list[float] = [-1.0]
    value = [before]
    for start, gain in zip(starts, gains, strict=True):
        at += [max(start - ramp, at[-1] + 1e-3), max(start, at[-1] + 2e-3)]
        value += [value[-1], gain]
    return np.interp(np.arange(clock.frames), at, value).astype(np.float32)


def mono_part(audio: Audio, *, below_hz: float, clock: Clock) -> Audio:
    """Mono below a border; always two channels."""
    return mono_below(as_stereo(audio), below_hz, rate_hz=clock.rate_hz, looped=clock.looped)


def set_kick(track: Audio, *, level_db: float, inverted: bool, offset_ms: float, clock: Clock) -> Audio:
    """The kick's track at its level, polarity and offset from its hits."""
    gain = np.float32(float(db_to_gain(level_db)) * (-1.0 if inverted else 1.0))
    return moved(track * gain, clock.samples_in_ms(offset_ms), looped=clock.looped)


def duck_layer(audio: Audio, reduction_db: NDArray[np.float32], *, amount: float) -> Audio:
    """A layer turned down by its share of the reduction."""
    return reduced(audio, reduction_db, amount)


def mix(*parts: Audio, frames: int) -> Audio:
    """The sum of stereo parts; silence if there are none."""
    total = np.zeros((2, frames), np.float32)
    for part in parts:
        total += part
    return total


def scale(audio: Audio, *, level_db: float) -> Audio:
    """The audio at a level."""
    return audio if level_db == 0.0 else audio * np.float32(db_to_gain(level_db))


def limit(audio: Audio, *, limiter: Limiter, clock: Clock) -> Audio:
    """The peak limiter."""
    given = {"ceiling_db": limiter.ceiling_db, "release_ms": limiter.release_ms}
    return limited(audio, **given, rate_hz=clock.rate_hz, looped=clock.looped)


def hit_sound(*, sound: KickSound, seed: int, clock: Clock, load: AssetLoader) -> Audio:
    """One hit, peak 1."""
    return as_stereo(sound.render(clock.rate_hz, seed, load))


def hits_track(hit: Audio, *, hits: tuple[float, ...], clock: Clock) -> Audio:
    """The hit at every beat of `hits`, each cut by the next; shape (2, frames)."""
    out = np.zeros((2, clock.frames), np.float32)
    starts = [clock.sample_at(beat) for beat in hits if beat < clock.beats]
    fade = clock.samples_in_ms(2.0)
    for index, start in enumerate(starts):
        following = starts[index + 1] if index + 1 < len(starts) else None
        if following is None and clock.looped:
            following = starts[0] + clock.loop_frames
        part = hit
        if following is not None and following - start < hit.shape[1]:
            part = hit[:, : following - start].copy()
            count = min(fade, part.shape[1])
            part[:, part.shape[1] - count :] *= np.linspace(1.0, 0.0, count, dtype=np.float32)
        mixed_at(out, part, start, looped=clock.looped)
    return out


def duck_reduction(key: Audio, *, duck: Duck, clock: Clock) -> NDArray[np.float32]:
    """The duck's gain reduction in dB, frame by frame, its look-ahead taken into account."""

    reduction = whole_reduction(key, duck.detector(), rate_hz=clock.rate_hz, looped=clock.looped)
    ahead = clock.samples_in_ms(duck.lookahead_ms)
    if clock.looped:
        return np.roll(reduction, -ahead)
    return np.append(reduction[ahead:], np.zeros(ahead, np.float32))
