"""The part of the drawings that was measured: redrawn when the measurements are in."""

from __future__ import annotations

import numpy as np

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.measure.bands import band_centres, band_edges
from apilado.core.measure.passage import energy_grid, grid_columns
from apilado.core.measure.stem import THIRD
from apilado.core.render.stage import stage
from apilado.core.soundings.asked import stem_stage
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.registry import limits_of
from apilado.core.units import power_to_db
from apilado.web.drawings.hit_view import hit_measured
from apilado.web.drawings.lines import tint_and_state
from apilado.web.drawings.measured_profile import profile
from apilado.web.drawings.measured_strip import strip
from apilado.web.drawings.slabs import columns, standing
from apilado.web.drawings.svg import image_uri, label, points, tag
from apilado.web.drawings.view import View, band_edges_hz

EDGE = 14.0
THINNEST = 6.0
NAME_HEIGHT, ROUND_A_BORDER = 16.0, 30.0
SILENT_POWER = 1e-7
BACKING_RGB, BACKING_MOST = (125, 120, 112), 110.0
TINT_RGB = {
    "ochre": (170, 112, 20),
    "slate": (74, 100, 125),
    "verdigris": (50, 125, 105),
    "haematite": (155, 65, 45),
    "lapis": (60, 80, 160),
    "umber": (110, 80, 50),
    "malachite": (60, 120, 55),
    "amethyst": (115, 70, 135),
}


def measured(measures: Measures, view: View) -> dict[str, str]:
    """SVG of what was measured, for each panel."""
    return {
        "pile": pile(measures.stack, measures, view),
        "profile": profile(measures, view),
        "passage": hit_measured(measures, view) if view.hit else _energy(measures, view),
        "strip": strip(measures, view),
    }


def pile(stack: Stack, measures: Measures, view: View) -> str:
    """Slabs as wide as they measure, and a bob at each border."""
    widths = {name: stem.width for name, stem in measures.stems.items()}
    leans = {name: stem.lean for name, stem in measures.stems.items()}
    powers = {name: stem.mid_power + stem.side_power for name, stem in measures.stems.items()}
    places = columns(stack)
    parts = [_slab(stack, layer, view, places[layer.id], widths, leans, powers) for layer in stack.layers]
    middle = view.pile / 2.0
    parts.append(tag("line", class_="centre-line", x1=middle, x2=middle, y1=0, y2=view.height))
    parts += slab_names(stack, view)
    if view.selected == "bus":
        parts += _whole_width(measures, view)
    if stack.bus.mono_below_hz > 0.0:
        y = view.y(stack.bus.mono_below_hz)
        parts.append(tag("line", class_="mono-line", x1=0, x2=view.pile, y1=y, y2=y))
        parts.append(label("mono", view.pile - 4, y + 13, class_="grid-label", text_anchor="end"))
    for index, border in measures.borders:
        if not border.meets or border.drifts:
            continue
        y = view.y(stack.crossovers[index].frequency_hz)
        x = middle + border.phase_deg / 180.0 * (middle - 16.0)
        state = limits_of(stack, "plumb").status(abs(border.phase_deg))
        parts.append(
            tag(
                "g",
                tag("line", class_="bob-line", x1=middle, y1=y - 26, x2=x, y2=y),
                tag("path", class_="bob", d=f"M{x - 5:.1f} {y - 2:.1f} h10 l-5 12 z"),
                label(
                    f"{round(border.phase_deg):+d}°".replace("+0", "0").replace("-", "−"),
                    x + 9,
                    y + 13,
                    class_="number small",
                ),
                class_=f"plumb is-{state}",
            )
        )
    return "".join(parts)


def _whole_width(measures: Measures, view: View) -> list[str]:
    """The width of the whole bass over frequency, before the bus and after it."""
    before = measures.measured(measures.graph.bus_input)
    middle, widest = view.pile / 2.0, view.pile / 2.0 - 14.0
    centres = band_centres(THIRD)
    parts = []
    for stem, class_ in ((before, "width-before"), (measures.bass, "width-after")):
        halves = [1.0 + min(1.0, 2.0 * float(w)) * widest for w in stem.width]
        for side in (-1.0, 1.0):
            line = ((middle + side * half, view.y(float(f))) for half, f in zip(halves, centres, strict=True))
            parts.append(tag("polyline", class_=class_, points=points(line)))
    return parts


def _slab(
    stack: Stack,
    layer: Layer,
    view: View,
    column: tuple[int, int],
    widths: dict[str, np.ndarray],
    leans: dict[str, np.ndarray],
    powers: dict[str, np.ndarray],
) -> str:
    low, high = band_edges_hz(stack, layer)
    middle, widest = standing(column, view.pile, EDGE)
    centres = band_centres(THIRD)
    inside = [low, *[float(c) for c in centres if low < c < high], high]
    left, right = [], []
    for frequency in inside:
        half, lean = widest * 0.3, 0.0
        if layer.id in widths:
            band = int(np.argmin(np.abs(np.log(centres / frequency))))
            there = powers[layer.id][band] > SILENT_POWER
            half = THINNEST + min(1.0, 2.0 * float(widths[layer.id][band])) * (widest - THINNEST) if there else 2.0
            lean = float(leans[layer.id][band]) * widest * 0.4 if there else 0.0
        y = view.y(frequency)
        left.append((middle + lean - half, y))
        right.append((middle + lean + half, y))
    return tag(
        "g",
        tag("polygon", class_="slab-ground", points=points(left + right[::-1])),
        tag("polygon", class_="slab", points=points(left + right[::-1]), fill=f"url(#hatch-{layer.tint})"),
        class_=f"layer {tint_and_state(stack, layer, view)}",
        data_select=f"layer:{layer.id}",
    )


def slab_names(stack: Stack, view: View) -> list[str]:
    """The layers' names on their slabs, clear of borders, bobs and each other as far as there is room."""
    borders = [view.y(crossover.frequency_hz) for crossover in stack.crossovers]
    kept = [(y - ROUND_A_BORDER, y + ROUND_A_BORDER) for y in borders]
    named, places = [], columns(stack)
    for layer in stack.layers:
        low, high = band_edges_hz(stack, layer)
        top, bottom = view.y(high) + 8.0, view.y(low) - 8.0
        middle = (top + bottom) / 2.0
        tries = sorted(np.arange(top, bottom + 1.0, 4.0), key=lambda y: abs(y - middle))
        free = (y for y in tries if not any(first < y < last for first, last in kept))
        y = float(next(free, middle))
        kept.append((y - NAME_HEIGHT, y + NAME_HEIGHT))
        across, _ = standing(places[layer.id], view.pile, EDGE)
        name = label(layer.name, across, y + 4.0, class_="slab-name", text_anchor="middle")
        named.append(tag("g", name, class_=f"layer {tint_and_state(stack, layer, view)}"))
    return named


def _energy(measures: Measures, view: View) -> str:
    """Each cell in the tint of the strongest layer, as dark as the sum is loud."""
    stack = measures.stack
    backing = _backing_energy(measures, view)
    layers = [layer for layer in stack.audible_layers() if f"layers/{layer.id}" in measures.grids]
    if not layers:
        return backing
    grids = power_to_db(np.array([measures.grids[f"layers/{layer.id}"] for layer in layers], np.float64))
    strongest = np.argmax(grids, axis=0)
    tints = [layer.tint for layer in layers]
    colours = np.array([TINT_RGB[tint] for tint in tints], np.uint8)
    return backing + _picture(stack, view, colours[strongest], np.max(grids, axis=0), 190.0, "energy")


def _backing_energy(measures: Measures, view: View) -> str:
    """The backing, faint and without a tint."""
    if measures.backing is None:
        return ""
    columns = grid_columns(measures.clock.beats)
    power = measures.run(
        stage(energy_grid, measures.backing, stem_stage(measures.backing, measures.clock), columns=columns)
    )
    grey = np.broadcast_to(np.array(BACKING_RGB, np.uint8), (*power.shape, 3))
    levels = power_to_db(power.astype(np.float64))
    return _picture(measures.stack, view, grey, levels, BACKING_MOST, "energy is-backing")


def _picture(stack: Stack, view: View, colours: np.ndarray, levels_db: np.ndarray, most: float, class_: str) -> str:
    """Cells of frequency and time, as dark as they are loud."""
    alpha = np.clip((levels_db + 66.0) / 60.0, 0.0, 1.0) ** 1.3 * most
    pixels = np.concatenate([colours, alpha[..., None].astype(np.uint8)], axis=2)[::-1]
    edges = band_edges(6)
    top, bottom = view.y(float(edges[-1])), view.y(float(edges[0]))
    left, right = view.x(0.0, stack), view.x(stack.beats, stack)
    return tag(
        "image",
        href=image_uri(pixels),
        x=left,
        y=top,
        width=right - left,
        height=bottom - top,
        preserveAspectRatio="none",
        class_=class_,
    )
