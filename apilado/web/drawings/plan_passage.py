"""The plan of Passage and Time strip: beats, notes and hits."""

from __future__ import annotations

import json

from apilado.core.document.stack import Stack
from apilado.core.notes import Note
from apilado.core.units import midi_to_hz, midi_to_name
from apilado.web.drawings.lines import beat_grid, border_lines, frequency_grid, handle
from apilado.web.drawings.svg import label, tag
from apilado.web.drawings.view import View
from apilado.web.items import hit_key, note_key

NOTE_HEIGHT = 8.0
SUB_LOW_HZ, SUB_HIGH_HZ = 40.0, 90.0


def passage(stack: Stack, view: View) -> str:
    """Notes at the height of their fundamentals, kick hits as posts, the sub's good range as a strip."""
    top, bottom = view.y(SUB_HIGH_HZ), view.y(SUB_LOW_HZ)
    parts = [
        tag("rect", class_="sub-range", x=0, y=top, width=view.passage, height=bottom - top),
        label("sub 40–90 Hz", view.passage - 6, bottom + 14, class_="grid-label", text_anchor="end"),
        frequency_grid(view, view.passage),
        beat_grid(stack, view, view.height),
        _hits(stack, view, view.height, handles=False),
        border_lines(stack, view, view.passage),
        *[_note(stack, view, note) for note in stack.pattern if note.start_beats < stack.beats],
    ]
    if not stack.pattern:
        hint = "No notes yet: double-click here, or read a MIDI file in the sheet."
        parts.append(label(hint, view.passage / 2, view.y(180.0), class_="hint", text_anchor="middle"))
    return "".join(parts)


def time_strip(stack: Stack, view: View) -> str:
    """Beats and the kick's hits, to be moved."""
    return beat_grid(stack, view, view.strip) + _hits(stack, view, view.strip, handles=True)


def _note(stack: Stack, view: View, note: Note) -> str:
    x, end = view.x(note.start_beats, stack), view.x(min(note.end_beats, stack.beats), stack)
    hertz = float(midi_to_hz(float(note.pitch)))
    y = view.y(hertz)
    width = max(end - x, 3.0)
    name = f"{midi_to_name(note.pitch)}, {hertz:.1f} Hz, beat {note.start_beats + 1:g}"
    return tag(
        "g",
        tag("title", name),
        tag("rect", class_="note-bar", x=x, y=y - NOTE_HEIGHT / 2, width=width, height=NOTE_HEIGHT),
        tag("rect", class_="note-end", x=x + width - 5, y=y - 8, width=8, height=16, data_part="end"),
        class_="note is-slide" if note.slide else "note",
        data_drag="note",
        data_note=json.dumps(note.model_dump(mode="json"), sort_keys=True),
        data_key=note_key(note),
        **handle(f"Note {name}", float(note.pitch), midi_to_name(note.pitch), 0, 127),
    )


def _hits(stack: Stack, view: View, height: float, *, handles: bool) -> str:
    parts = []
    for hit in stack.kick.hits:
        if hit >= stack.beats:
            continue
        x = view.x(hit, stack)
        name = f"Kick, beat {hit + 1:g}"
        line = {"x1": x, "x2": x, "y1": 0, "y2": height}
        drawn = [
            tag("title", name),
            tag("line", class_="post", **line),
            tag("rect", class_="post-foot", x=x - 3, y=height - 7, width=6, height=7),
        ]
        if not handles:
            parts.append(tag("g", *drawn, class_="hit"))
            continue
        parts.append(
            tag(
                "g",
                *drawn,
                tag("line", class_="grip", **line),
                class_="hit",
                data_drag="hit",
                data_hit=repr(hit),
                data_key=hit_key(hit),
                **handle(name, hit, f"beat {hit + 1:g}", 0, stack.beats),
            )
        )
    return "".join(parts)
