"""A stack as a small pile, for the shelf."""

from __future__ import annotations

import math

from apilado.core.document.stack import Stack
from apilado.core.measure.bands import band_centres
from apilado.core.measure.stem import THIRD
from apilado.web.drawings.slabs import columns, standing
from apilado.web.drawings.svg import points, tag
from apilado.web.drawings.view import View, band_edges_hz

WIDTH, HEIGHT = 150.0, 190.0
EDGE = 8.0


def small_pile(stack: Stack, widths: dict[str, list[float]], left: dict[float, float] | None = None) -> str:
    """SVG of the layers as slabs; widths per third-octave by layer, negative where there is nothing.

    Args:
        left: how much is left of each third-octave where something takes it away, from 0 to 1, by its middle in Hz:
            that much of a slab is solid, and its outline is what it was.
    """
    view = View(height=HEIGHT, pile=WIDTH)
    centres = [float(c) for c in band_centres(THIRD)]
    parts, places = [], columns(stack)
    for layer in stack.layers:
        middle, widest = standing(places[layer.id], WIDTH, EDGE)
        low, high = band_edges_hz(stack, layer)
        measured = widths.get(layer.id)
        lower, upper, rest = [], [], []
        for frequency in [low, *[c for c in centres if low < c < high], high]:
            half = widest * 0.3
            if measured:
                nearest = min(range(len(centres)), key=lambda i: abs(math.log(centres[i] / frequency)))
                width = measured[nearest]
                half = 2.0 if width < 0.0 else 5.0 + min(1.0, 2.0 * width) * (widest - 5.0)
            kept = half * (1.0 if left is None else left[min(left, key=lambda c: abs(math.log(c / frequency)))])
            lower.append((middle - half, view.y(frequency)))
            upper.append((middle + half, view.y(frequency)))
            rest.append((middle, kept, view.y(frequency)))
        state = "is-heard" if measured else "is-muted"
        shape = points(lower + upper[::-1])
        solid = points([(x - kept, y) for x, kept, y in rest] + [(x + kept, y) for x, kept, y in rest[::-1]])
        outline = "" if left is None else tag("polygon", class_="slab-lost", points=shape)
        parts.append(
            tag(
                "g",
                tag("polygon", class_="slab-ground", points=solid),
                tag("polygon", class_="slab", points=solid, fill=f"url(#hatch-{layer.tint})"),
                outline,
                class_=f"layer tint-{layer.tint} {state}",
            )
        )
    for crossover in stack.crossovers:
        y = view.y(crossover.frequency_hz)
        parts.append(tag("line", class_="border-line", x1=0, x2=WIDTH, y1=y, y2=y))
    return tag(
        "svg",
        *parts,
        viewBox=f"0 0 {WIDTH:.0f} {HEIGHT:.0f}",
        width=WIDTH,
        height=HEIGHT,
        class_="drawing small-pile",
        aria_hidden="true",
    )
