"""Kept parts, drawn on the frequency axis of the Quarry where they belong on it; a movement over its time."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType

import numpy as np

from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import eq_sections
from apilado.core.document.kept_part import KeptPart, PartKind
from apilado.core.document.movement import Movement
from apilado.core.document.path import Equaliser
from apilado.core.dsp.filters import sections_response
from apilado.web.drawings.spectrum_row import HEIGHT, HIGH_HZ, LOW_HZ, across, row_drawn
from apilado.web.drawings.svg import label, points, tag

RATE_HZ, STEPS, RANGE_DB = 48000, 160, 18.0


def part_row(part: KeptPart, width: float) -> str:
    """SVG of a kept part."""
    return row_drawn(width, *_DRAWN[part.kind](part, width), said=f"{part.kind} {part.name}")


def _layer(part: KeptPart, width: float) -> list[str]:
    low, high = (across(float(hertz), width) for hertz in part.data["range_hz"])
    tint = part.data["layer"].get("tint", "ochre")
    shape = {"x": low, "y": 6.0, "width": max(2.0, high - low), "height": HEIGHT - 12.0}
    hatch = tag("rect", class_="part-hatch", fill=f"url(#hatch-{tint})", **shape)
    return [tag("g", hatch, tag("rect", class_="part-edge", **shape), class_=f"tint-{tint}")]


def _chain(part: KeptPart, width: float) -> list[str]:
    said = " → ".join("EQ" if step["kind"] == "eq" else step["kind"].replace("-", " ") for step in part.data["steps"])
    return [label(said, 6.0, HEIGHT / 2.0 + 4.0, class_="part-words")]


def _eq(part: KeptPart, width: float) -> list[str]:
    eq = Equaliser.model_validate(part.data["step"])
    hertz = np.geomspace(LOW_HZ, HIGH_HZ, STEPS)
    still = tuple(point for point in eq.points if point.follows() is None)
    response = sections_response(eq_sections(still, RATE_HZ), hertz, RATE_HZ)
    gains = 20.0 * np.log10(np.maximum(np.abs(response), 1e-4))
    heights = HEIGHT / 2.0 - np.clip(gains / RANGE_DB, -1.0, 1.0) * (HEIGHT / 2.0 - 2.0)
    middle = tag("line", class_="rule", x1=0, x2=width, y1=HEIGHT / 2.0, y2=HEIGHT / 2.0)
    line = [(across(float(f), width), float(y)) for f, y in zip(hertz, heights, strict=True)]
    return [middle, tag("polyline", class_="part-line", points=points(line))]


def _duck(part: KeptPart, width: float) -> list[str]:
    duck = Ducker.model_validate(part.data["duck"])
    low, high = duck.band_hz() or (LOW_HZ, HIGH_HZ)
    left, right = across(max(low, LOW_HZ), width), across(high, width)
    return [tag("rect", class_="part-duck", x=left, y=8.0, width=max(2.0, right - left), height=HEIGHT - 16.0)]


def _movement(part: KeptPart, width: float) -> list[str]:
    sketch = Movement.model_validate(part.data["movement"]).sketch()
    if sketch is None:
        return []
    at = np.linspace(0.0, width, len(sketch.heights))
    line = [(float(x), HEIGHT - 3.0 - float(y) * (HEIGHT - 6.0)) for x, y in zip(at, sketch.heights, strict=True)]
    return [tag("polyline", class_="part-line", points=points(line))]


_DRAWN: Mapping[PartKind, Callable[[KeptPart, float], list[str]]] = MappingProxyType(
    {"layer": _layer, "chain": _chain, "eq": _eq, "duck": _duck, "movement": _movement}
)
