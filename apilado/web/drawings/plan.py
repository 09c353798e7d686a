"""The part of the drawings that follows from the document alone: redrawn with every edit, before any sound."""

from __future__ import annotations

import json
from html import escape

import numpy as np

from apilado.core.document.equaliser import Point, eq_sections
from apilado.core.document.stack import Stack
from apilado.core.dsp.filters import sections_response
from apilado.core.units import gain_to_db, midi_to_hz, midi_to_name
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import GRID_HZ, HIGHEST_HZ, LOWEST_HZ, View, short_hz

NOTE_HEIGHT = 8.0
SUB_LOW_HZ, SUB_HIGH_HZ = 40.0, 90.0


def plan(stack: Stack, view: View) -> dict[str, str]:
    """SVG of the plan of each panel: 'pile', 'profile', 'passage', 'strip'."""
    return {
        "pile": _grid(view, view.pile, labelled=True) + _borders(stack, view, view.pile, named=True),
        "profile": _grid(view, view.profile) + _borders(stack, view, view.profile) + _equaliser(stack, view),
        "passage": _passage(stack, view),
        "strip": _strip(stack, view),
    }


def _grid(view: View, width: float, *, labelled: bool = False) -> str:
    parts = []
    for frequency in GRID_HZ:
        y = round(view.y(frequency)) + 0.5
        parts.append(tag("line", class_="grid", x1=0, x2=width, y1=y, y2=y))
        if labelled and frequency not in (20, 20000):
            shown = f"{frequency // 1000}k" if frequency >= 1000 else str(frequency)
            parts.append(label(shown, 3, y - 3, class_="grid-label"))
    return "".join(parts)


def _borders(stack: Stack, view: View, width: float, *, named: bool = False) -> str:
    """Crossovers as dimension lines, wide enough to take hold of."""
    parts = []
    for index, crossover in enumerate(stack.crossovers):
        y = view.y(crossover.frequency_hz)
        shown = short_hz(crossover.frequency_hz)
        line = [
            tag("line", class_="border-line", x1=0, x2=width, y1=y, y2=y),
            tag("line", class_="grip", x1=0, x2=width, y1=y, y2=y),
        ]
        if named:
            line.append(
                tag("path", class_="border-tick", d=f"M1 {y + 5:.1f} l10 -10 M{width - 11:.1f} {y + 5:.1f} l10 -10")
            )
            line.append(tag("rect", class_="number-ground", x=width - 76, y=y - 19, width=62, height=16))
            line.append(label(shown, width - 45, y - 6, class_="number", text_anchor="middle"))
        parts.append(
            tag(
                "g",
                *line,
                class_="border",
                data_drag="crossover",
                data_index=index,
                data_key=f"crossover:{index}",
                **(_slider(f"Crossover {index + 1}", crossover.frequency_hz, shown, 30, 16000) if named else {}),
            )
        )
    return "".join(parts)


def _slider(name: str, value: float, shown: str, low: float, high: float) -> dict[str, object]:
    return {
        "tabindex": 0,
        "role": "slider",
        "aria_label": name,
        "aria_valuenow": f"{value:.1f}",
        "aria_valuemin": low,
        "aria_valuemax": high,
        "aria_valuetext": shown,
        "aria_orientation": "vertical",
    }


def eq_of(stack: Stack, view: View) -> tuple[str, tuple[Point, ...]] | None:
    """(path, points) of the EQ that the Profile shows: the selected layer's, or the bus's."""
    layer = view.selected_layer(stack)
    if layer is not None:
        return f"layers/{layer.id}/eq", layer.eq
    if view.selected == "bus":
        return "bus/eq", stack.bus.eq
    return None


def _equaliser(stack: Stack, view: View) -> str:
    shown = eq_of(stack, view)
    if shown is None:
        return ""
    path, members = shown
    frequencies = np.geomspace(LOWEST_HZ, HIGHEST_HZ, 160)
    response = sections_response(eq_sections(members, stack.sample_rate), frequencies, stack.sample_rate)
    gains = gain_to_db(np.abs(response))
    curve = points((view.gain_x(float(g)), view.y(float(f))) for f, g in zip(frequencies, gains, strict=True))
    middle = view.gain_x(0.0)
    parts = [
        tag("line", class_="eq-zero", x1=middle, x2=middle, y1=0, y2=view.height),
        tag("polyline", class_="eq-curve", points=curve),
    ]
    for index, point in enumerate(members):
        gain = getattr(point, "gain_db", 0.0)
        x, y = view.gain_x(gain), view.y(point.frequency_hz)
        name = f"{point.label}, {short_hz(point.frequency_hz)}"
        parts.append(
            tag(
                "g",
                tag("line", class_="eq-stem", x1=middle, x2=x, y1=y, y2=y),
                tag("rect", class_="eq-tack", x=x - 5, y=y - 5, width=10, height=10),
                tag("circle", class_="grip-area", cx=x, cy=y, r=12),
                class_="eq-point" if point.on else "eq-point is-off",
                data_drag="point",
                data_path=f"{path}/{index}",
                data_gain="yes" if hasattr(point, "gain_db") else "no",
                data_key=f"point:{path}/{index}",
                **_slider(name, point.frequency_hz, f"{name}, {gain:+.1f} dB", 20, 20000),
            )
        )
    return tag("g", *parts, data_eq=path)


def _passage(stack: Stack, view: View) -> str:
    top, bottom = view.y(SUB_HIGH_HZ), view.y(SUB_LOW_HZ)
    parts = [
        tag("rect", class_="sub-range", x=0, y=top, width=view.passage, height=bottom - top),
        label("40–90 Hz", view.passage - 6, bottom - 5, class_="grid-label", text_anchor="end"),
        _grid(view, view.passage),
        _beats(stack, view, view.height),
        _hits(stack, view, view.height, "passage"),
        _borders(stack, view, view.passage),
    ]
    for note in stack.pattern:
        if note.start_beats >= stack.beats:
            continue
        x, end = view.x(note.start_beats, stack), view.x(min(note.end_beats, stack.beats), stack)
        y = view.y(float(midi_to_hz(float(note.pitch))))
        data = json.dumps(note.model_dump(mode="json"), sort_keys=True)
        width = max(end - x, 3.0)
        parts.append(
            tag(
                "g",
                tag("title", escape(f"{midi_to_name(note.pitch)}, beat {note.start_beats + 1:g}")),
                tag("rect", class_="note-bar", x=x, y=y - NOTE_HEIGHT / 2, width=width, height=NOTE_HEIGHT),
                tag("rect", class_="note-end", x=x + width - 5, y=y - 8, width=8, height=16, data_part="end"),
                class_="note is-slide" if note.slide else "note",
                data_drag="note",
                data_note=data,
                data_key=f"note:{note.start_beats}:{note.pitch}",
            )
        )
    return "".join(parts)


def _beats(stack: Stack, view: View, height: float) -> str:
    first, last = view.beats(stack)
    lines = []
    for beat in range(int(np.ceil(first)), int(last) + 1):
        x = round(view.x(beat, stack)) + 0.5
        bar = beat % stack.beats_per_bar == 0
        lines.append(tag("line", class_="bar-line" if bar else "beat-line", x1=x, x2=x, y1=0, y2=height))
        if bar and beat < last:
            lines.append(label(str(beat // stack.beats_per_bar + 1), x + 4, 13, class_="grid-label"))
    return "".join(lines)


def _hits(stack: Stack, view: View, height: float, where: str) -> str:
    parts = []
    for hit in stack.kick.hits:
        if hit >= stack.beats:
            continue
        x = view.x(hit, stack)
        parts.append(
            tag(
                "g",
                tag("title", f"Kick, beat {hit + 1:g}"),
                tag("line", class_="post", x1=x, x2=x, y1=0, y2=height),
                tag("rect", class_="post-foot", x=x - 3, y=height - 7, width=6, height=7),
                tag("line", class_="grip", x1=x, x2=x, y1=0, y2=height) if where == "strip" else "",
                class_="hit",
                data_drag="hit" if where == "strip" else None,
                data_hit=hit,
                data_key=f"hit:{hit}",
            )
        )
    return "".join(parts)


def _strip(stack: Stack, view: View) -> str:
    return _beats(stack, view, view.strip) + _hits(stack, view, view.strip, "strip")
