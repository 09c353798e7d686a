"""The room map as a view over time: who owns each place at each moment, and where two want it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from apilado.core.measure.bands import band_centres, band_edges
from apilado.core.measure.room_map import RoomMap, centre_of
from apilado.core.soundings.measures import Measures
from apilado.core.units import power_to_db, short_hz
from apilado.web.drawings.measured import TINT_RGB
from apilado.web.drawings.svg import image_uri, label, tag
from apilado.web.drawings.view import View

WIDTH, HEIGHT, LEFT = 560.0, 400.0, 34.0
DRUM_RGB = (120, 106, 88)
CONTESTED_DB = -6.0
CONTESTED_RGB = (178, 44, 26)
FLOOR_DB, SPAN_DB = -66.0, 60.0
LEAST_SHARE = 0.02
ACROSS, UP, HATCH = 4, 12, 6
"""Pixels of the picture for each moment and for each band, and from one line of the hatching to the next."""


@dataclass(frozen=True)
class Covering:
    """One source that stands in the way of another."""

    part: str
    other: str
    share: float
    frequency: str
    covered_db: float


@dataclass(frozen=True)
class RoomView:
    """The picture and its table."""

    drawing: str
    rows: list[Covering]
    legend: list[tuple[str, str]]
    """(tint class, name) of each source."""


def room_view(measures: Measures) -> RoomView:
    """The room map of a stack."""
    stack, room = measures.stack, measures.room
    tints = {f"layers/{layer.id}": layer.tint for layer in stack.layers}
    legend = [(tints.get(name, "drum"), stack.owner_name(name)) for name in room.names]
    return RoomView(_picture(measures, room, tints) if room.names else "", _rows(measures, room), legend)


def _rows(measures: Measures, room: RoomMap) -> list[Covering]:
    found = []
    for part in room.names:
        for other in room.names:
            share = room.share(part, other) if part != other else 0.0
            if share < LEAST_SHARE:
                continue
            common = room.common(part, other)
            band = int(np.argmax(common))
            covered = float(room.covered_db(part, other)[band])
            names = (measures.stack.owner_name(part), measures.stack.owner_name(other))
            found.append(Covering(*names, share, short_hz(centre_of(common)), covered))
    return sorted(found, key=lambda row: -row.share)


def _picture(measures: Measures, room: RoomMap, tints: dict[str, str]) -> str:
    colours = np.array([TINT_RGB[tints[name]] if name in tints else DRUM_RGB for name in room.names], np.float64)
    strongest = np.argmax(room.power, axis=0)
    loudest = power_to_db(np.max(room.power, axis=0))
    alpha = np.clip((loudest - FLOOR_DB) / SPAN_DB, 0.0, 1.0) ** 1.2 * 215.0
    pixels = np.concatenate([colours[strongest], alpha[..., None]], axis=2)
    large = np.repeat(np.repeat(pixels, UP, axis=0), ACROSS, axis=1)
    contested = room.contested_db() > CONTESTED_DB
    wide = np.repeat(np.repeat(contested, UP, axis=0), ACROSS, axis=1)
    rows, columns = np.indices(wide.shape)
    large[wide & ((rows + columns) % HATCH == 0)] = (*CONTESTED_RGB, 255.0)
    view, stack = View(height=HEIGHT, passage=WIDTH - LEFT), measures.stack
    edges = band_edges(3)
    top, bottom = view.y(float(edges[-1])), view.y(float(edges[0]))
    parts = [
        tag(
            "image",
            href=image_uri(large[::-1].astype(np.uint8)),
            x=LEFT,
            y=top,
            width=WIDTH - LEFT,
            height=bottom - top,
            preserveAspectRatio="none",
            class_="room-cells",
        )
    ]
    for hertz in (50, 100, 200, 500, 1000, 2000, 5000, 10000):
        y = view.y(float(hertz))
        parts.append(tag("line", class_="grid", x1=LEFT, x2=WIDTH, y1=y, y2=y))
        shown = f"{hertz // 1000}k" if hertz >= 1000 else str(hertz)
        parts.append(label(shown, LEFT - 4, y + 4, class_="grid-label", text_anchor="end"))
    for crossover in stack.crossovers:
        y = view.y(crossover.frequency_hz)
        parts.append(tag("line", class_="border-line", x1=LEFT, x2=WIDTH, y1=y, y2=y))
    for bar in range(stack.bars):
        x = LEFT + view.x(float(bar * stack.beats_per_bar), stack)
        parts.append(tag("line", class_="bar-line", x1=x, x2=x, y1=0, y2=HEIGHT))
        parts.append(label(str(bar + 1), x + 4, 13, class_="grid-label"))
    for hit in stack.hits("kick"):
        if hit < stack.beats:
            x = LEFT + view.x(hit, stack)
            parts.append(tag("path", class_="post-foot", d=f"M{x - 3:.1f} {HEIGHT:.0f} v-6 h6 v6 z"))
    size = {"width": WIDTH, "height": HEIGHT, "viewBox": f"0 0 {WIDTH:.0f} {HEIGHT:.0f}"}
    said = f"Energy of {len(room.names)} sources in {len(band_centres(3))} third-octaves over the loop"
    return tag("svg", *parts, **size, class_="drawing", role="img", aria_label=said)
