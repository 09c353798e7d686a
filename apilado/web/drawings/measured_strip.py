"""The Time strip as measured: bass and kick drawn over each other, and the ducks; zoomed to a hit, what they win."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from apilado.core.document.addresses import find
from apilado.core.document.movement import Movement
from apilado.core.document.naming import place_name
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve
from apilado.core.measure.ducking import headroom_won
from apilado.core.measure.passage import outline
from apilado.core.render.builder import Builder
from apilado.core.soundings.measures import Measures
from apilado.core.units import db_to_gain
from apilado.web.drawings.lanes import DUCKS, WAVES, Lane, lane_named, lanes_of
from apilado.web.drawings.plan_passage import reduction_span
from apilado.web.drawings.sound_lane import sound_wave
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import View
from apilado.web.sheets.ducks import chosen_ducker

HIT_BEATS = 2.0
"""A stretch this short is looked at as one hit: before, after and sum."""


def strip(measures: Measures, view: View) -> str:
    """SVG of the waveforms' lane and the ducks' lane."""
    first, last = view.beats(measures.stack)
    near = last - first <= HIT_BEATS and bool(measures.reductions)
    parts: list[str] = []
    if not view.hit:
        lane = lane_named(measures.stack, view, WAVES).bottom
        parts = _hit_waves(measures, view, lane) if near else _waves(measures, view, lane)
    parts += _ducks(measures, view, lane_named(measures.stack, view, DUCKS))
    for each in lanes_of(measures.stack, view):
        passed = measures.graph.passed.get(each.name)
        if passed is not None and passed.reduction is not None:
            parts += _gain(measures, view, each, measures.run(passed.reduction))
        moved = find(measures.stack, each.name)
        if isinstance(moved, Movement) and moved.shape.follows() is not None:
            parts.append(_followed(measures, view, each, moved))
    return "".join([*parts, sound_wave(measures, view)])


def _gain(measures: Measures, view: View, lane: Lane, reduction: NDArray[np.float32] | None) -> list[str]:
    """The gain that the step that is open takes, from nothing at the top of its lane; where it lifts too, from nothing
    in the middle. What has bands takes one from each."""
    if reduction is None:
        return []
    span = max(6.0, math.ceil(float(np.max(np.abs(reduction), initial=0.0)) / 6.0) * 6.0)
    lifts = bool(np.min(reduction, initial=0.0) < 0.0)
    said = f"{place_name(measures.stack, lane.name)}, {f'+{span:.0f}' if lifts else '0'} to −{span:.0f} dB"
    rows = np.atleast_2d(reduction)
    traces = [
        _trace(measures, view, lane, row, span, _band_class(n, len(rows)), lifts=lifts) for n, row in enumerate(rows)
    ]
    return [*traces, label(said, view.passage - 6, lane.bottom - 5, class_="grid-label", text_anchor="end")]


def _band_class(number: int, count: int) -> str:
    """The class of the trace of a band; of what has no bands, that of a reduction."""
    return "reduction" if count == 1 else f"reduction of-band of-band-{number + 1}"


def _followed(measures: Measures, view: View, lane: Lane, moved: Movement) -> str:
    """The course of a movement that follows a sound."""
    moves = Builder(measures.stack, measures.clock, measures.load).moves
    curve: Curve = measures.run(moves.course(moved, moved.targets[0].path))
    first, last = _frames(measures, view)
    columns = max(16, int(view.passage))
    values = np.interp(np.linspace(first, last, columns), curve.at, curve.values)
    xs = np.linspace(0.0, view.passage, columns)
    line = points((float(x), lane.y(float(v))) for x, v in zip(xs, values, strict=True))
    return tag("polyline", class_="course", points=line)


def _trace(
    measures: Measures,
    view: View,
    lane: Lane,
    reduction: NDArray[np.float32],
    span: float,
    class_: str,
    *,
    lifts: bool = False,
) -> str:
    """A gain reduction hanging from the top of a lane that is as deep as a span of decibels; what lifts too, from its
    middle, from which the lane is as deep to either side."""
    frames, columns = _frames(measures, view), max(16, int(view.passage))
    scale = (lane.bottom - lane.top - 5.0) / (2.0 * span if lifts else span)
    nothing = lane.top + 1.0 + (span * scale if lifts else 0.0)
    index = np.linspace(frames[0], frames[1] - 1, columns).astype(np.int64)
    values = np.minimum(reduction[np.clip(index, 0, reduction.shape[0] - 1)], span)
    trace = [(i * view.passage / (columns - 1), nothing + float(v) * scale) for i, v in enumerate(values)]
    closed = [(0.0, nothing), *trace, (view.passage, nothing)]
    return tag("polygon", class_=class_, points=points(closed))


def _frames(measures: Measures, view: View) -> tuple[int, int]:
    first, last = view.beats(measures.stack)
    return measures.clock.sample_at(first), measures.clock.sample_at(last)


def _wave(audio: Audio, view: View, frames: tuple[int, int], lane: float, class_: str, scale: float = 1.0) -> str:
    columns = max(16, int(view.passage))
    middle = lane / 2.0
    shape = outline(audio, first=frames[0], last=frames[1], columns=columns)
    xs = (np.arange(columns) + 0.5) * view.passage / columns
    edges = (np.clip(shape.high * scale, -1.0, 1.0), np.clip(shape.low * scale, -1.0, 1.0))
    upper, lower = (
        [(float(x), middle - float(v) * (middle - 3)) for x, v in zip(xs, edge, strict=True)] for edge in edges
    )
    return tag("polygon", class_=class_, points=points(upper + lower[::-1]))


def _waves(measures: Measures, view: View, lane: float) -> list[str]:
    frames = _frames(measures, view)
    parts = [_wave(measures.bass_audio, view, frames, lane, "bass-wave")]
    if "kick" in measures.heard_drums:
        parts.append(_wave(measures.kick_audio, view, frames, lane, "kick-wave"))
    parts.append(label("bass and kick", view.passage - 6, lane - 5, class_="grid-label", text_anchor="end"))
    return parts


def _hit_waves(measures: Measures, view: View, lane: float) -> list[str]:
    """Kick, bass before and after the duck, and their sum; and what the duck wins of the peak in view."""
    frames = _frames(measures, view)
    before_bass, before, after = (
        measures.run(stage) for stage in (measures.undone.bass, measures.undone.output, measures.graph.output)
    )
    won = headroom_won(*(audio[:, frames[0] : frames[1]] for audio in (before, after)))
    scale = 1.0 / float(db_to_gain(max(won.before_db, won.after_db, 0.0)))  # so that both are seen whole
    parts = [
        _wave(before_bass, view, frames, lane, "bass-before", scale),
        _wave(measures.bass_audio, view, frames, lane, "bass-wave", scale),
        _wave(after, view, frames, lane, "sum-wave", scale),
    ]
    if "kick" in measures.heard_drums:
        parts.append(_wave(measures.kick_audio, view, frames, lane, "kick-wave", scale))
    said = f"in view the duck wins {won.won_db:.1f} dB of peak".replace("-", "−")
    parts.append(label(said, view.passage - 6, 13, class_="grid-label won", text_anchor="end"))
    parts.append(
        label(
            "bass before (faint), after, kick, sum", view.passage - 6, lane - 5, class_="grid-label", text_anchor="end"
        )
    )
    return parts


def _ducks(measures: Measures, view: View, lane: Lane) -> list[str]:
    """The gain reduction of every ducker that is on, the chosen one the strongest."""
    span = reduction_span(measures.stack)
    chosen = chosen_ducker(measures.stack, view.selected)
    parts = []
    for name, reduction in measures.reductions.items():
        state = "reduction" if chosen is not None and chosen.id == name else "reduction is-other"
        parts.append(_trace(measures, view, lane, reduction, span, state))
    said = f"ducks, 0 to −{span:.0f} dB" if measures.reductions else "no duck"
    parts.append(label(said, view.passage - 6, lane.bottom - 5, class_="grid-label", text_anchor="end"))
    return parts
