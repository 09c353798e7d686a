"""The functions that stages call: plain arrays and models in, arrays out."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Sequence
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.addresses import replaced
from apilado.core.document.equaliser import KeyedBell, Point, eq_sections
from apilado.core.document.forms import FramePlan
from apilado.core.document.kick import KickSound
from apilado.core.document.stack import Crossover, Limiter, borders_of
from apilado.core.dsp import courses
from apilado.core.dsp.agreement import Fit, best_fit
from apilado.core.dsp.audio import Audio, as_stereo, sounding_until, without_tiny
from apilado.core.dsp.breaking_off import pieces
from apilado.core.dsp.crossovers import border, cut, split
from apilado.core.dsp.curves import Curve, Value, knots, mapped, per_frame, rows
from apilado.core.dsp.ducks import band_ducked
from apilado.core.dsp.dynamics import limiter_reduction, reduced
from apilado.core.dsp.equaliser import SENT_SLOPE, butterworth_high_pass
from apilado.core.dsp.filters import Sections, filtered, settle_frames
from apilado.core.dsp.linear_phase import mono_below, zero_phase
from apilado.core.dsp.moving import moving_bell
from apilado.core.dsp.moving_filters import moving_filtered, some_at_a_time
from apilado.core.dsp.oversampling import oversampled
from apilado.core.dsp.shapers import soft_clip
from apilado.core.dsp.stereo import mixed_at, moved, placed
from apilado.core.dsp.transients import shaped_hit
from apilado.core.measure.loudness import loop_power
from apilado.core.notes import Note, voice_notes
from apilado.core.render import joins
from apilado.core.shapes.base import Course, DuckShape
from apilado.core.shapes.follow_course import FollowCourse
from apilado.core.sources.base import Score, Source
from apilado.core.treatments.base import Treatment
from apilado.core.units import db_to_gain

P = TypeVar("P", bound=BaseModel)
NOTE_LEVEL_RAMP_MS = 4.0
LONGEST_DUCK_MS = 60_000.0
"""A hit longer ago than this turns nothing down any more."""
HIT_ENDS_DB = -100.0
MOST_LEVEL_GAIN, SILENT_POWER = 1000.0, 1e-12


def play_source(
    *curves: Curve, source: Source, names: tuple[str, ...] = (), score: Score, clock: Clock, load: AssetLoader
) -> Audio:
    """A layer's raw sound."""
    return driven_by(source, names, curves).render(score, clock, load)


def between(*inputs: Any, count: int, first: int, at: float) -> Audio:
    """Versions of a sound next to each other, and how far it is along them: each fades in as the one before fades out.

    Args:
        inputs: `count` sounds, the first of them at `first`; then the curve of the place, if that moves.
    """
    sounds, curves = inputs[:count], inputs[count:]
    place = np.asarray(per_frame(curves[0]) if curves else at, np.float32)
    total = functools.reduce(
        np.add,
        (as_stereo(each) * np.clip(1.0 - np.abs(place - (first + n)), 0.0, 1.0) for n, each in enumerate(sounds)),
    )
    return np.asarray(total, np.float32)


def split_bands(audio: Audio, *, crossovers: tuple[Crossover, ...], first: int, last: int, clock: Clock) -> Audio:
    """What a run of bands keeps of the audio."""
    piece = cut(borders_of(crossovers, clock.rate_hz), first, last)
    return split(audio, piece, looped=clock.looped)


def treat(audio: Audio, *inputs: Any, treatment: Treatment, names: tuple[str, ...] = (), clock: Clock) -> Audio:
    """One treatment.

    Args:
        inputs: what it follows or has prepared, if it does, and the curves of what moves in it.
    """
    key, curves = _key_and_curves(treatment, inputs)
    return driven_by(treatment, names, curves).process(without_tiny(audio), clock, *key)


def reduce(
    audio: Audio, *inputs: Any, treatment: Treatment, names: tuple[str, ...] = (), clock: Clock
) -> NDArray[np.float32] | None:
    """The gain reduction of a treatment in dB, frame by frame; None if it has none. `inputs` as for `treat`."""
    key, curves = _key_and_curves(treatment, inputs)
    return driven_by(treatment, names, curves).reduction(audio, clock, *key)


def turn_down(
    audio: Audio,
    reduction: NDArray[np.float32],
    *curves: Curve,
    treatment: Treatment,
    names: tuple[str, ...] = (),
) -> Audio:
    """What a treatment makes of a sound by its gain reduction, which is there already."""
    return driven_by(treatment, names, curves).turned_down(without_tiny(audio), reduction)


def _key_and_curves(treatment: Treatment, inputs: tuple[Any, ...]) -> tuple[tuple[Any, ...], tuple[Curve, ...]]:
    keys = 1 if treatment.follows() is not None or treatment.prepares else 0
    return inputs[:keys], inputs[keys:]


def prepared(*, treatment: Treatment, rate_hz: int, load: AssetLoader) -> Audio:
    """What a treatment makes of its values once."""
    return treatment.prepared(rate_hz, load)


def weighted_power(audio: Audio, *, rate_hz: int) -> float:
    """How loud a sound is over the whole loop, as a power."""
    return loop_power(audio, rate_hz)


def level_gain(was: float, now: float) -> float:
    """The gain that makes what comes out of a step as loud as what goes in, from the powers of both."""
    if min(was, now) <= SILENT_POWER:
        return 1.0
    return float(np.clip(np.sqrt(was / now), 1.0 / MOST_LEVEL_GAIN, MOST_LEVEL_GAIN))


def turned(audio: Audio, gain: float) -> Audio:
    """A sound times a gain."""
    return audio if gain == 1.0 else np.asarray(audio * np.float32(gain))


def agreement(sound: Audio, copy: Audio, *, rate_hz: int) -> Fit:
    """How a copy of a sound behind a chain of its own agrees best with it, over the whole loop."""
    return best_fit(sound, copy, rate_hz)


def fitted(copy: Audio, fit: Fit, *, clock: Clock) -> Audio:
    """A copy as it agrees best."""
    turned_over = -copy if fit.inverted else copy
    return moved(turned_over, float(fit.frames), looped=clock.looped) if fit.frames else turned_over


def known(*, value: float | Fit) -> float | Fit:
    """What is known already of the whole loop."""
    return value


def band_of(
    audio: Audio, *, at_hz: tuple[float, ...], slope_db_per_octave: int, phase: str, number: int, clock: Clock
) -> Audio:
    """One of the bands between some borders, counted from 0."""
    borders = tuple(border(hertz, slope_db_per_octave, clock.rate_hz, kind=phase) for hertz in at_hz)
    return split(audio, cut(borders, number, number), looped=clock.looped)


def equalise(audio: Audio, *, points: tuple[Point, ...], linear_phase: bool, clock: Clock) -> Audio:
    """All points of an EQ that stand still."""
    sections = eq_sections(points, clock.rate_hz)
    if linear_phase and len(sections):
        return zero_phase(audio, sections, clock.rate_hz, looped=clock.looped)
    return filtered(audio, sections, looped=clock.looped)


def open_point(
    key: Audio, *curves: Curve, point: KeyedBell, names: tuple[str, ...] = (), clock: Clock
) -> NDArray[np.float32]:
    """How far its trigger opens a point, 0 to 1, frame by frame."""
    driven: Any = driven_by(point, names, curves)
    opened: NDArray[np.float32] = driven.opening(key, rate_hz=clock.rate_hz, looped=clock.looped)
    return opened


def move_point(
    audio: Audio,
    opened: NDArray[np.float32],
    *curves: Curve,
    point: KeyedBell,
    names: tuple[str, ...] = (),
    clock: Clock,
) -> Audio:
    """A point that its trigger opens."""
    driven: Any = driven_by(point, names, curves)
    shape = {"frequency_hz": driven.frequency_hz, "gain_db": driven.gain_db, "q": driven.q}
    return moving_bell(audio, opened, **shape, rate_hz=clock.rate_hz, looped=clock.looped)


def sweep_point(audio: Audio, *curves: Curve, point: Point, names: tuple[str, ...], clock: Clock) -> Audio:
    """A point whose values move."""
    at, values = rows(curves)

    def sections(*columns: NDArray[np.float64]) -> Sections:
        return point.model_copy(update=dict(zip(names, columns, strict=True))).sections(clock.rate_hz)

    return moving_filtered(audio, at, some_at_a_time(sections, *values.T), looped=clock.looped)


def driven_by(part: P, names: tuple[str, ...], curves: Sequence[Curve]) -> P:
    """A part with curves in the places of the values that move."""
    for name, curve_ in zip(names, curves, strict=True):
        part = replaced(part, name, curve_)
    return part


def course_of(
    *,
    course: Course,
    starts: tuple[int, ...],
    factors: tuple[float, ...],
    length_frames: float,
    repeats: bool,
    smooth_frames: int,
    clock: Clock,
) -> Curve:
    """Where a movement is, 0 to 1, over a render."""
    found = courses.course(
        course.breakpoints(),
        starts,
        factors,
        length_frames=length_frames,
        repeats=repeats,
        frames=clock.loop_frames if clock.begins is not None else clock.frames,
        rate_hz=clock.rate_hz,
        looped=clock.comes_round,
        window=None if clock.begins is None else (clock.begins, clock.frames),
    )
    return courses.smoothed(found, smooth_frames, looped=clock.looped)


def follow(key: Audio, *, course: FollowCourse, smooth_frames: int, clock: Clock) -> Curve:
    """The level of a sound, 0 at the bottom of the range to 1 at its peak."""
    level = course.level(key, clock)
    at = knots(clock.frames)
    last = level[:1] if clock.looped else level[-1:]
    found = Curve(at, np.append(level[at[:-1]], last).astype(np.float64))
    return courses.smoothed(found, smooth_frames, looped=clock.looped)


def cut_curve(whole: Curve, *, clock: Clock) -> Curve:
    """What a curve of the loop does in a stretch of its repetition."""
    return whole.stretch(clock.begins or 0, clock.frames)


def stepped(*, values: tuple[tuple[int, float], ...], octaves: bool, clock: Clock) -> Curve:
    """A value that sections have otherwise: (frame, value) from where on it is that."""
    return joins.stepped_curve(values, octaves=octaves, clock=clock)


def join_curves(*forms: Curve, plan: FramePlan, octaves: bool, clock: Clock) -> Curve:
    """A value that moves otherwise in sections."""
    return joins.joined_curves(forms, plan, octaves=octaves, clock=clock)


def join(*forms: Any, plan: FramePlan, clock: Clock) -> Any:
    """What is rendered in several forms, each in the bars in which it holds."""
    return joins.join(*forms, plan=plan, clock=clock)


def let_in(audio: Audio, *, plan: FramePlan, number: int, clock: Clock) -> Audio:
    """A sound in the bars of one form alone."""
    return audio * joins.shares(plan, number, clock)


def together(*parts: Audio) -> Audio:
    """The sum of what came of the bars of each form."""
    return np.asarray(functools.reduce(np.add, parts), np.float32)


def no_reduction() -> None:
    """The gain reduction of what is off."""
    return


def nothing_taken(*, clock: Clock) -> NDArray[np.float32]:
    """The gain reduction in dB of a ducker that is off, frame by frame."""
    return np.zeros(clock.frames, np.float32)


def curve(
    *moving: Curve, base: float | None, travels: tuple[tuple[float, bool], ...], low: float, high: float, octaves: bool
) -> Curve:
    """A value that movements move: their travels add up in its unit, or in octaves; it stays within its range.

    Args:
        base: where it would stand; None where the last of the curves says so.
    """
    at, values = rows(moving)
    total = np.zeros(at.shape[0])
    for column, (travel, both_ways) in enumerate(travels):
        share = 2.0 * values[:, column] - 1.0 if both_ways else values[:, column]
        total += travel * share
    stands = values[:, -1] if base is None else base
    moved_ = stands * 2.0**total if octaves else stands + total
    return Curve(at, np.clip(moved_, low, high))


def listen_to(audio: Audio, *, point: Point, clock: Clock) -> Audio:
    """What a point touches."""
    return filtered(audio, point.touched(clock.rate_hz), looped=clock.looped)


def place(
    audio: Audio,
    *curves: Curve,
    names: tuple[str, ...] = (),
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
    values: dict[str, Value] = {"width": width, "pan": pan, "level_db": level_db, "delay_ms": delay_ms}
    values.update(zip(names, curves, strict=True))
    gain = per_frame(mapped(values["level_db"], lambda db: db_to_gain(db) * (-1.0 if inverted else 1.0)))
    if note_levels:
        gain = np.asarray(gain, np.float32) * note_gain(dict(note_levels), notes, clock)
    out = placed(audio, width=values["width"], mono=mono, pan=values["pan"], gain=gain)
    return moved(out, mapped(values["delay_ms"], lambda ms: ms * clock.rate_hz / 1000.0), looped=clock.looped)


def note_gain(levels_db: dict[int, float], notes: tuple[Note, ...], clock: Clock) -> NDArray[np.float32]:
    """A gain per frame that holds each note's level from its start to the next note's, with short ramps before a start.

    In a loop the ramp to the first note begins before the seam, from the level of the last.
    """
    if clock.begins is not None:
        return note_gain(levels_db, notes, clock.whole)[clock.around()]
    played = voice_notes(notes, clock.beats)
    if not played:
        return np.ones(clock.frames, np.float32)
    ramp = max(1, clock.samples_in_ms(NOTE_LEVEL_RAMP_MS))
    knots = [(clock.sample_at(note.start_beats), float(db_to_gain(levels_db.get(note.pitch, 0.0)))) for note in played]
    if clock.looped:
        (first, first_gain), (last, last_gain) = knots[0], knots[-1]
        knots = [(last - clock.loop_frames, last_gain), *knots, (first + clock.loop_frames, first_gain)]
    at, value = [float(knots[0][0])], [knots[0][1]]
    for (before, gain_before), (start, gain) in itertools.pairwise(knots):
        at += [max(float(start - ramp), float(before)), float(start)]
        value += [gain_before, gain]
    return np.interp(np.arange(clock.frames), at, value).astype(np.float32)


def mono_part(audio: Audio, *borders: Curve, below_hz: float, clock: Clock) -> Audio:
    """Mono below a border; always two channels."""
    border = borders[0] if borders else below_hz
    return mono_below(as_stereo(audio), border, rate_hz=clock.rate_hz, looped=clock.looped)


def set_drum(track: Audio, *levels: Curve, level_db: float, inverted: bool, offset_ms: float, clock: Clock) -> Audio:
    """A drum's track at its level, polarity and offset from its hits."""
    level = per_frame(mapped(levels[0] if levels else level_db, db_to_gain))
    gain = np.asarray(level * (-1.0 if inverted else 1.0), np.float32)
    return moved(track * gain, clock.frames_in_ms(offset_ms), looped=clock.looped)


def duck_layer(audio: Audio, *inputs: Any, amounts: tuple[float | None, ...]) -> Audio:
    """A layer turned down by its shares of the reductions.

    Args:
        inputs: as many reductions in dB as there are amounts, then the curve of each share that is None.
    """
    reductions_db, curves = inputs[: len(amounts)], iter(inputs[len(amounts) :])
    shares: list[Value] = [next(curves) if amount is None else amount for amount in amounts]
    if len(reductions_db) == 1:
        return reduced(audio, reductions_db[0], shares[0])
    total = np.zeros(audio.shape[1], np.float32)
    for share, reduction in zip(shares, reductions_db, strict=True):
        total += np.asarray(per_frame(share), np.float32) * reduction
    return reduced(audio, total)


def duck_band(
    audio: Audio,
    reduction_db: NDArray[np.float32],
    *shares: Curve,
    low_hz: float,
    high_hz: float,
    amount: float | None,
    clock: Clock,
) -> Audio:
    """One band of a layer turned down, the rest left alone; the share is a number or, where that is None, a curve."""
    band: dict[str, Any] = {"low_hz": low_hz, "high_hz": high_hz, "amount": shares[0] if amount is None else amount}
    return band_ducked(audio, reduction_db, **band, rate_hz=clock.rate_hz, looped=clock.looped)


def mix(*parts: Audio, frames: int) -> Audio:
    """The sum of stereo parts; silence if there are none."""
    total = np.zeros((2, frames), np.float32)
    for first, end in pieces(frames):
        for part in parts:
            total[:, first:end] += part[:, first:end]
    return total


def sent(audio: Audio, *shares: Curve, share: float) -> Audio:
    """What of a sound is sent to the space."""
    return audio * np.asarray(per_frame(shares[0]) if shares else share, np.float32)


def above(audio: Audio, *, border_hz: float, clock: Clock) -> Audio:
    """What the bus sends of a sound: what lies over a border."""
    sections = butterworth_high_pass(border_hz, SENT_SLOPE, clock.rate_hz)
    return filtered(audio, sections, looped=clock.looped)


def what_is_added(after: Audio, before: Audio, *, level_db: float) -> Audio:
    """What came of a sound less the sound, at a level; both channels."""
    return (as_stereo(after) - as_stereo(before)) * np.float32(db_to_gain(level_db))


def scale(audio: Audio, *levels: Curve, level_db: float) -> Audio:
    """The audio at a level."""
    if levels:
        return audio * np.asarray(per_frame(mapped(levels[0], db_to_gain)), np.float32)
    return audio if level_db == 0.0 else audio * np.float32(db_to_gain(level_db))


def limit(audio: Audio, reduction: NDArray[np.float32]) -> Audio:
    """A sound behind the peak limiter, by its gain reduction; itself where nothing exceeds the ceiling."""
    return reduced(audio, reduction) if reduction.any() else audio


def limit_reduction(
    audio: Audio, *curves: Curve, limiter: Limiter, names: tuple[str, ...] = (), clock: Clock
) -> NDArray[np.float32]:
    """The peak limiter's gain reduction in dB, frame by frame."""
    driven = driven_by(limiter, names, curves)
    given: dict[str, Any] = {"ceiling_db": driven.ceiling_db, "release_ms": driven.release_ms, "held_db": clock.held_db}
    return limiter_reduction(audio, **given, rate_hz=clock.rate_hz, looped=clock.looped)


def hit_sound(*, sound: KickSound, seed: int, clock: Clock, load: AssetLoader) -> Audio:
    """One hit, peak 1."""
    return as_stereo(sound.render(clock.rate_hz, seed, load))


def shape_hit(
    hit: Audio,
    *,
    attack_db: float,
    sustain_db: float,
    sections: tuple[tuple[float, ...], ...],
    clip_db: float,
    clock: Clock,
) -> Audio:
    """Attack and sustain, EQ, soft clip of one hit; the clip is brought back to the peak it found."""
    out = shaped_hit(hit, attack_db=attack_db, sustain_db=sustain_db, rate_hz=clock.rate_hz)
    if sections:
        # Room for what the filters ring on after the hit's end.
        cascade = np.array(sections)
        out = filtered(np.pad(out, ((0, 0), (0, settle_frames(cascade)))), cascade, looped=False)
        out = out[:, : max(1, sounding_until(out, HIT_ENDS_DB))]
    peak = float(np.max(np.abs(out), initial=0.0))
    if clip_db > 0.0 and peak > 0.0:
        gain = float(db_to_gain(clip_db))
        clipped = oversampled(out / np.float32(max(peak, 1e-6)), 4, lambda x: soft_clip(x, gain), looped=False)
        out = clipped * np.float32(peak / max(float(np.max(np.abs(clipped))), 1e-6))
    return out


def hits_track(*sounds: Audio, hits: tuple[float, ...], which: tuple[int, ...] = (), clock: Clock) -> Audio:
    """A hit at every beat of `hits`, each cut by the next; shape (2, frames).

    Args:
        which: of several sounds, that of each hit.
    """
    out = np.zeros((2, clock.frames), np.float32)
    starts = [clock.sample_at(beat) for beat in hits if beat < clock.beats]
    ends = [*starts[1:], starts[0] + clock.loop_frames if clock.comes_round else None] if starts else []
    for index, (start, following) in enumerate(zip(starts, ends, strict=True)):
        part = sounds[which[index]] if which else sounds[0]
        if following is not None and following - start < part.shape[1]:
            part = part[:, : following - start].copy()
            count = min(clock.samples_in_ms(2.0), part.shape[1])
            part[:, part.shape[1] - count :] *= np.linspace(1.0, 0.0, count, dtype=np.float32)
        for place in clock.places(start, part.shape[1]):
            mixed_at(out, part, place, looped=clock.looped)
    return out


def duck_reduction(
    key: Audio, *curves: Curve, shape: DuckShape, names: tuple[str, ...] = (), hits: tuple[float, ...], clock: Clock
) -> NDArray[np.float32]:
    """A ducker's gain reduction in dB, frame by frame."""
    at, longest = (clock.sample_at(beat) for beat in hits), clock.samples_in_ms(LONGEST_DUCK_MS)
    starts = tuple(sorted(place for each in at for place in clock.places(each, longest)))
    return driven_by(shape, names, curves).reduction(key, starts, clock)
