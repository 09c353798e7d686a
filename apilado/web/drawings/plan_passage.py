"""The plan of Passage and Time strip: beats, notes and hits."""

from __future__ import annotations

import json
import math
from html import escape

import numpy as np

from apilado.core.document.kick import SynthKick
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.dsp.envelopes import DECAY_NEPERS
from apilado.core.dsp.kicks import CLICK_MS
from apilado.core.notes import Note
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.units import bar_and_beat, midi_to_hz, midi_to_name
from apilado.web.drawings.lanes import DUCKS, lane_borders, lane_named, movement_lanes
from apilado.web.drawings.lines import beat_grid, border_lines, frequency_grid, handle
from apilado.web.drawings.sections import STRIP, section_strip, veil
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import View
from apilado.web.items import hit_key, note_key, notes_layer
from apilado.web.sheets.ducks import chosen_ducker

NOTE_HEIGHT = 8.0
NAME_HEIGHT = 13.0
SWEEP_POINTS = 40
REPEATED = "Repeats the pattern: change it in the first round"
SECTIONED = "Of a section: choose that to change them"
SHARED = "Of the shared pattern: this layer plays notes of its own"
SUB_LOW_HZ, SUB_HIGH_HZ = 40.0, 90.0


def passage(stack: Stack, view: View) -> str:
    """Notes at the height of their fundamentals, kick hits as posts, the sub's good range as a strip."""
    top, bottom = view.y(SUB_HIGH_HZ), view.y(SUB_LOW_HZ)
    parts = [
        tag("rect", class_="sub-range", x=0, y=top, width=view.passage, height=bottom - top),
        label("sub 40–90 Hz", view.passage - 6, bottom + 14, class_="grid-label", text_anchor="end"),
        frequency_grid(view, view.passage),
        beat_grid(stack, view, view.height),
        _note_names(stack, view),
        _hits(stack, view, view.height, handles=False),
        _sweeps(stack, view),
        border_lines(stack, view, view.passage),
        *_notes(stack, view),
        pattern_end(stack, view),
        veil(stack, view, view.height, STRIP),
        section_strip(stack, view),
    ]
    if not stack.pattern:
        hint = "No notes yet: double-click here, or read a MIDI file in the sheet."
        parts.append(label(hint, view.passage / 2, view.y(180.0), class_="hint", text_anchor="middle"))
    return "".join(parts)


def time_strip(stack: Stack, view: View) -> str:
    """Beats and hits, to be moved; the lanes of movements; of a drawn duck, what is pulled."""
    return "".join(
        (
            beat_grid(stack, view, view.strip),
            lane_borders(stack, view),
            movement_lanes(stack, view),
            _hits(stack, view, lane_named(stack, view, DUCKS).bottom, handles=True),  # clear of the lanes below
            duck_handles(stack, view),
            veil(stack, view, view.strip),
        )
    )


def _note_names(stack: Stack, view: View) -> str:
    """Names along the axis: of the pattern's pitches, and of every C where there is room."""
    pitches = sorted({note.pitch for note in stack.pattern})
    placed: list[float] = []
    parts = []
    for pitch in [*pitches, *range(24, 128, 12)]:
        y = view.y(float(midi_to_hz(float(pitch))))
        if all(abs(y - other) >= NAME_HEIGHT for other in placed) and NAME_HEIGHT < y < view.height:
            placed.append(y)
            parts.append(label(midi_to_name(pitch), 3, y + 4.0, class_="grid-label note-name"))
    return "".join(parts)


def _own_beats(stack: Stack) -> float:
    """Up to where the notes of the pattern itself are played."""
    return min(stack.pattern_beats, stack.beats)


def _notes(stack: Stack, view: View) -> list[str]:
    """The notes that are edited, and their repetitions: the stack's, or a layer's own over the shared ones."""
    layer = notes_layer(stack, view.selected)
    notes = stack.pattern if layer is None else layer.notes or ()
    shared = [] if layer is None else [_again(stack, view, note, "note-shared", SHARED) for note in stack.played()]
    if layer is None:
        inside = _replaced_beats(stack) if not view.section else []
        played = [note for note in stack.played() if note.start_beats >= stack.pattern_beats]
        found = [
            *[_again(stack, view, n) for n in played if not _within(n.start_beats, inside)],
            *[_again(stack, view, n, said=SECTIONED) for n in stack.played() if _within(n.start_beats, inside)],
            *[
                _note(stack, view, n, layer, unheard=_within(n.start_beats, inside))
                for n in notes
                if n.start_beats < _own_beats(stack)
            ],
        ]
    else:
        found = [
            *[_again(stack, view, n) for n in stack.played(notes) if n.start_beats >= stack.pattern_beats],
            *[_note(stack, view, n, layer) for n in notes if n.start_beats < _own_beats(stack)],
        ]
    of = {} if layer is None else {"class_": f"tint-{layer.tint} own-notes", "data_notes_of": layer.id}
    return [*shared, tag("g", *found, **of)]


def _replaced_beats(stack: Stack, drum: str = "") -> list[tuple[float, float]]:
    """Where sections play notes of their own, or hits of a drum, in beats."""
    own = [
        section
        for section in stack.sections
        if (any(other.drum == drum for other in section.hits) if drum else section.notes is not None)
    ]
    return [section.beats(stack.beats_per_bar) for section in own]


def _within(beat: float, spans: list[tuple[float, float]]) -> bool:
    return any(first <= beat < last for first, last in spans)


def pattern_end(stack: Stack, view: View) -> str:
    """Where the notes begin again, to be pulled from bar to bar; at the end of the piece they do not."""
    if not stack.pattern and not any(layer.notes for layer in stack.layers):
        return ""
    x = min(view.x(_own_beats(stack), stack), view.passage)
    if not 0.0 < x <= view.passage:
        return ""
    top, bottom = view.y(SUB_HIGH_HZ), view.height - 8.0
    bars = f"{stack.pattern_bars} bars" if stack.pattern_bars else "as long as the piece"
    name = f"The pattern is {bars}"
    flag = f"M{x:.1f} {bottom - 12:.1f} l-9 -5 l0 10 z"
    return tag(
        "g",
        tag("title", f"{name}: pull it from bar to bar"),
        tag("line", class_="pattern-line", x1=x, x2=x, y1=top, y2=bottom),
        tag("path", class_="pattern-flag", d=flag),
        tag("rect", class_="grip-area", x=x - 12, y=bottom - 24, width=16, height=24),
        class_="pattern-end",
        data_drag="pattern-end",
        data_bars=stack.pattern_bars or stack.bars,
        data_key="pattern-end",
        **handle(name, float(stack.pattern_bars or stack.bars), bars, 1, stack.bars),
    )


def _again(stack: Stack, view: View, note: Note, class_: str = "note-again", said: str = REPEATED) -> str:
    """A note that is only seen: of a round that repeats the pattern, or of the shared one under a layer's own."""
    x, end = view.x(note.start_beats, stack), view.x(min(note.end_beats, stack.beats), stack)
    y = view.y(float(midi_to_hz(float(note.pitch))))
    bar = tag("rect", x=x, y=y - NOTE_HEIGHT / 2, width=max(end - x, 3.0), height=NOTE_HEIGHT)
    return tag("g", tag("title", said), bar, class_=class_)


def _note(stack: Stack, view: View, note: Note, layer: Layer | None, *, unheard: bool = False) -> str:
    x, end = view.x(note.start_beats, stack), view.x(min(note.end_beats, stack.beats), stack)
    hertz = float(midi_to_hz(float(note.pitch)))
    y = view.y(hertz)
    width = max(end - x, 3.0)
    name = f"{midi_to_name(note.pitch)}, {hertz:.1f} Hz, {bar_and_beat(note.start_beats, stack.beats_per_bar)}"
    return tag(
        "g",
        tag("title", name),
        tag("rect", class_="note-bar", x=x, y=y - NOTE_HEIGHT / 2, width=width, height=NOTE_HEIGHT),
        tag("rect", class_="note-end", x=x + width - 5, y=y - 8, width=8, height=16, data_part="end"),
        class_=f"note{' is-slide' if note.slide else ''}{' is-unheard' if unheard else ''}",
        data_drag="note",
        data_note=json.dumps(note.model_dump(mode="json"), sort_keys=True),
        data_key=note_key(note, "" if layer is None else layer.id),
        data_layer=None if layer is None else layer.id,
        **handle(f"Note {name}", float(note.pitch), midi_to_name(note.pitch), 0, 127),
    )


def shown_drum(stack: Stack, view: View) -> str:
    """The drum whose hits can be moved: the one that is chosen, else the kick."""
    kind, _, name = view.selected.partition(":")
    if kind == "trigger" and name in stack.drum_names():
        return name
    ducker = chosen_ducker(stack, view.selected) if kind == "duck" else None
    return ducker.trigger if ducker is not None else "kick"


def _hits(stack: Stack, view: View, height: float, *, handles: bool) -> str:
    chosen = shown_drum(stack, view)
    others = [name for name in stack.drum_names() if name != chosen]
    parts = [_post(stack, view, name, hit, height) for name in others for hit in stack.hits(name)]
    inside = _replaced_beats(stack, chosen) if not view.section else []
    parts += [_post(stack, view, chosen, hit, height) for hit in stack.hits(chosen) if _within(hit, inside)]
    for hit in stack.drum(chosen).hits:
        if hit < stack.beats and not _within(hit, inside):
            parts.append(_post(stack, view, chosen, hit, height, handles=handles))
    return "".join(parts)


def _post(stack: Stack, view: View, drum: str, hit: float, height: float, *, handles: bool = False) -> str:
    """A hit: the kick stands on a block, other drums on a wedge; of a muted drum only the foot's outline is left."""
    if hit >= stack.beats:
        return ""
    x = view.x(hit, stack)
    place = bar_and_beat(hit, stack.beats_per_bar)
    name = f"{stack.drum_names()[drum]}, {place}"
    line = {"x1": x, "x2": x, "y1": 0, "y2": height}
    foot = f"M{x - 3:.1f} {height:.1f} v-7 h6 v7 z" if drum == "kick" else f"M{x - 5:.1f} {height:.1f} l5 -9 l5 9 z"
    class_ = "hit is-silent" if stack.drum(drum).mute else "hit"
    drawn = [tag("title", escape(name)), tag("line", class_="post", **line), tag("path", class_="post-foot", d=foot)]
    if not handles:
        return tag("g", *drawn, class_=class_)
    return tag(
        "g",
        *drawn,
        tag("line", class_="grip", **line),
        class_=class_,
        data_drag="hit",
        data_drum=drum,
        data_hit=repr(hit),
        data_key=hit_key(drum, hit),
        **handle(name, hit, place, 0, stack.beats),
    )


def _sweeps(stack: Stack, view: View) -> str:
    """The parts of a synthesised kick on the frequency axis at each of its hits: its falling pitch, and its click."""
    sound = stack.kick.sound
    if view.selected not in ("kick", "sub") or not isinstance(sound, SynthKick):
        return ""
    beats_per_second = stack.tempo_bpm / 60.0
    t = np.linspace(0.0, sound.decay_ms / 1000.0, SWEEP_POINTS)
    pitch = sound.end_hz + (sound.start_hz - sound.end_hz) * np.exp(-DECAY_NEPERS * t * 1000.0 / sound.sweep_ms)
    parts = []
    for hit in stack.hits("kick"):
        if hit < stack.beats:
            fall = (
                (view.x(hit + float(s) * beats_per_second, stack), view.y(float(f)))
                for s, f in zip(t, pitch, strict=True)
            )
            parts.append(tag("polyline", class_="kick-sweep", points=points(fall)))
            if sound.click > 0.0:
                x, end = view.x(hit, stack), view.x(hit + CLICK_MS / 1000.0 * beats_per_second, stack)
                top, bottom = view.y(12000.0), view.y(1500.0)
                box = {"x": x, "y": top, "width": max(2.0, end - x), "height": bottom - top}
                parts.append(tag("rect", class_="kick-click", opacity=f"{0.15 + 0.5 * sound.click:.2f}", **box))
    return "".join(parts)


def duck_handles(stack: Stack, view: View) -> str:
    """What is pulled of a drawn duck, at the first of its hits in view: the ends of its hold and of its release."""
    ducker = chosen_ducker(stack, view.selected) if view.selected.partition(":")[0] == "duck" else None
    if ducker is None or not isinstance(ducker.shape, DrawnDuck):
        return ""
    first, last = view.beats(stack)
    hit = next((hit for hit in stack.hits_of(ducker) if first <= hit < last), None)
    if hit is None:
        return ""
    hold, release = (ms / 60000.0 * stack.tempo_bpm for ms in ducker.shape.times_ms(stack.tempo_bpm))
    lane = lane_named(stack, view, DUCKS)
    top = lane.top + 1.0
    depth = min(ducker.shape.depth_db / reduction_span(stack), 1.0) * (lane.bottom - top - 4.0)
    path = f"duckers/{ducker.id}/shape"
    parts = []
    for part, beat, y, name in (
        ("hold", hit + hold, top + depth, f"Depth {ducker.shape.depth_db:g} dB, end of hold"),
        ("release", hit + hold + release, top, "End of release"),
    ):
        x = view.x(beat, stack)
        parts.append(
            tag(
                "g",
                tag("title", name),
                tag("rect", class_="duck-tack", x=x - 5, y=y - 5, width=10, height=10),
                tag("circle", class_="grip-area", cx=x, cy=y, r=11),
                class_="duck-point",
                data_drag="duck",
                data_path=path,
                data_part=part,
                data_key=f"duck:{ducker.id}:{part}",
                data_start=repr(hit),
                data_hold=repr(hold),
                data_release=repr(release),
                data_db=repr(ducker.shape.depth_db),
                data_lengths=ducker.shape.lengths,
                data_beat_ms=repr(60000.0 / stack.tempo_bpm),
                data_top=repr(top),
                data_bottom=repr(lane.bottom - 4.0),
                data_span=repr(reduction_span(stack)),
                **handle(f"{ducker.name}: {name}", beat - hit, f"{beat - hit:.2f} beats", 0, 8),
            )
        )
    return "".join(parts)


def reduction_span(stack: Stack) -> float:
    """How many decibels the lane of the gain reduction holds: by sixes, deeper than the deepest duck may go."""
    deepest = [getattr(d.shape, "depth_db", None) or getattr(d.shape, "range_db", 12.0) for d in stack.duckers if d.on]
    return max(12.0, min(48.0, math.ceil((max(deepest, default=6.0) + 1.0) / 6.0) * 6.0))
