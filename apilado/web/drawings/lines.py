"""What several panels share: the grid of frequencies, the crossovers, the grid of beats, handles."""

from __future__ import annotations

import json
import math

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.render.audition import Audition
from apilado.core.units import short_hz
from apilado.web.drawings.svg import label, tag
from apilado.web.drawings.view import GRID_HZ, View, layer_state
from apilado.web.items import crossover_key

STRUCK = 9.0
"""A number this near to a border would be struck through by it, in pixels."""


def frequency_grid(view: View, width: float, *, labelled: Stack | None = None) -> str:
    """Thin rules at round frequencies; numbered where no border of the stack runs through the number."""
    parts = []
    borders = [view.y(crossover.frequency_hz) for crossover in labelled.crossovers] if labelled else []
    for frequency in GRID_HZ:
        y = round(view.y(frequency)) + 0.5
        parts.append(tag("line", class_="grid", x1=0, x2=width, y1=y, y2=y))
        free = all(abs(y - 8.0 - border) > STRUCK for border in borders)
        if labelled and free and frequency not in (20, 20000):
            shown = f"{frequency // 1000}k" if frequency >= 1000 else str(frequency)
            parts.append(label(shown, 3, y - 3, class_="grid-label"))
    return "".join(parts)


def border_lines(stack: Stack, view: View, width: float, *, named: bool = False) -> str:
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
                data_moves=json.dumps({"op": "move-crossover", "crossover": crossover.id}),
                data_removes=json.dumps({"op": "remove-crossover", "crossover": crossover.id}),
                data_key=crossover_key(crossover.id),
                **(handle(f"Crossover {index + 1}", crossover.frequency_hz, shown, 30, 16000) if named else {}),
            )
        )
    return "".join(parts)


def handle(name: str, value: float, shown: str, low: float, high: float) -> dict[str, object]:
    """Attributes of something that is moved by pointer or arrow keys."""
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


def beat_grid(stack: Stack, view: View, height: float) -> str:
    """Lines at beats and bars, the bars numbered."""
    first, last = view.beats(stack)
    lines = []
    for beat in range(math.ceil(first), int(last) + 1):
        x = round(view.x(beat, stack)) + 0.5
        bar = beat % stack.beats_per_bar == 0
        lines.append(tag("line", class_="bar-line" if bar else "beat-line", x1=x, x2=x, y1=0, y2=height))
        if bar and beat < last:
            lines.append(label(str(beat // stack.beats_per_bar + 1), x + 4, 13, class_="grid-label"))
    return "".join(lines)


def tint_and_state(stack: Stack, layer: Layer, audition: Audition) -> str:
    """The classes that draw a layer: its tint, and whether it is heard, muted or faded."""
    return f"tint-{layer.tint} {layer_state(stack, layer, audition)}"
