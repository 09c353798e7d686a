"""The part of the drawings that was measured: redrawn when the measurements are in."""

from __future__ import annotations

import numpy as np

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.measure.balance import third_levels
from apilado.core.measure.bands import band_centres, band_edges
from apilado.core.measure.stem import FINE, THIRD, measure_stem
from apilado.core.render.stage import stage
from apilado.core.soundings.comparison import balance_against_piece, balance_against_target, mix_measures
from apilado.core.soundings.measures import Measures
from apilado.core.units import power_to_db
from apilado.web.drawings.measured_strip import strip
from apilado.web.drawings.svg import image_uri, label, points, tag
from apilado.web.drawings.view import LEVEL_LOW_DB, View, band_edges_hz, layer_state

THINNEST = 6.0
THIRD_OVER_TWELFTH_DB = 6.02
LEAST_COMMON, MOST_COMMON, COMMON_WIDTH = 0.002, 0.2, 46.0
"""Bars of common ground: shares of the drums' energy, and their greatest width in pixels."""
SILENT_POWER = 1e-7
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
        "profile": _profile(measures, view),
        "passage": _energy(measures, view),
        "strip": strip(measures, view),
    }


def _states(stack: Stack, layer: Layer) -> str:
    return f"tint-{layer.tint} {layer_state(stack, layer)}"


def pile(stack: Stack, measures: Measures, view: View) -> str:
    """Slabs as wide as they measure, and a bob at each border."""
    widths = {name: stem.width for name, stem in measures.stems.items()}
    leans = {name: stem.lean for name, stem in measures.stems.items()}
    powers = {name: stem.mid_power + stem.side_power for name, stem in measures.stems.items()}
    parts = [_slab(stack, layer, view, widths, leans, powers) for layer in stack.layers]
    middle = view.pile / 2.0
    parts.append(tag("line", class_="centre-line", x1=middle, x2=middle, y1=0, y2=view.height))
    parts += [_slab_name(stack, layer, view) for layer in stack.layers]
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
        state = "fault" if abs(border.phase_deg) > 90 else "look" if abs(border.phase_deg) > 45 else "fine"
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
    before = measures.run(stage(measure_stem, measures.graph.bus_input, rate_hz=measures.clock.rate_hz))
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
    widths: dict[str, np.ndarray],
    leans: dict[str, np.ndarray],
    powers: dict[str, np.ndarray],
) -> str:
    low, high = band_edges_hz(stack, layer)
    middle, widest = view.pile / 2.0, view.pile / 2.0 - 14.0
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
        class_=f"layer {_states(stack, layer)}",
        data_select=f"layer:{layer.id}",
    )


def _slab_name(stack: Stack, layer: Layer, view: View) -> str:
    low, high = band_edges_hz(stack, layer)
    y = (view.y(low) + view.y(high)) / 2.0 + 4.0
    return tag(
        "g",
        label(layer.name, view.pile / 2.0, y, class_="slab-name", text_anchor="middle"),
        class_=f"layer {_states(stack, layer)}",
    )


def _profile(measures: Measures, view: View) -> str:
    centres = band_centres(FINE)

    def line(levels: np.ndarray) -> str:
        return points((view.level_x(float(v)), view.y(float(f))) for f, v in zip(centres, levels, strict=True))

    parts = []
    for level in (-60, -40, -20):
        x = view.level_x(level)
        parts.append(tag("line", class_="beat-line", x1=x, x2=x, y1=0, y2=view.height))
        parts.append(label(f"{level}", x + 3, 13, class_="grid-label"))
    stack = measures.stack
    for layer in stack.layers:
        stem = measures.stems.get(layer.id)
        if stem is None:
            continue
        closed = f"0,{view.y(float(centres[0])):.1f} {line(stem.fine_db)} 0,{view.y(float(centres[-1])):.1f}"
        states = f"layer {_states(stack, layer)}" + (" is-selected" if view.selected == f"layer:{layer.id}" else "")
        parts.append(tag("g", tag("polygon", class_="spectrum", points=closed), class_=states))
    if float(np.max(measures.kick.fine_db)) > LEVEL_LOW_DB and "kick" in measures.heard_drums:
        parts.append(tag("polyline", class_="kick-spectrum", points=line(measures.kick.fine_db)))
    parts += _compared(measures, view) if view.selected == "balance" else _common_ground(measures, view)
    if measures.sounding:
        parts.append(tag("polyline", class_="sum-spectrum", points=line(measures.bass.fine_db)))
    return "".join(parts)


def _compared(measures: Measures, view: View) -> list[str]:
    """What the balance is compared with, as levels of twelfths of an octave: the target, and a finished piece."""
    if not measures.sounding:
        return []
    lines = [("target-line", third_levels(measures.bass) - balance_against_target(measures).difference_db)]
    own, piece = mix_measures(measures), balance_against_piece(measures)
    if piece is not None:
        lines.append(("piece-line", own.levels_db - piece.difference_db))
    parts = []
    for class_, levels in lines:
        there = [(v - THIRD_OVER_TWELFTH_DB, f) for v, f in zip(levels, band_centres(THIRD), strict=True) if v == v]
        line = points((view.level_x(float(v)), view.y(float(f))) for v, f in there)
        parts.append(tag("polyline", class_=class_, points=line))
    return parts


def _common_ground(measures: Measures, view: View) -> list[str]:
    """At the right edge, a bar for each third-octave: what drums and the chosen layer (or all) have in common."""
    stack, room = measures.stack, measures.room
    drums = [stack.drum_owner(name) for name in measures.heard_drums]
    chosen = view.selected_layer(stack)
    layers = [chosen] if chosen is not None and chosen in stack.audible_layers() else list(stack.audible_layers())
    if not drums or not layers:
        return []
    names = tuple(f"layers/{layer.id}" for layer in layers)
    common = np.mean(np.minimum(room.together(tuple(drums)), room.together(names)), axis=1)
    whole = float(np.sum(np.mean(room.together(tuple(drums)), axis=1)))
    edges, parts = band_edges(THIRD), []
    for band, power in enumerate(common):
        share = float(power) / whole if whole > 0.0 else 0.0
        if share < LEAST_COMMON:
            continue
        top, bottom = view.y(float(edges[band + 1])), view.y(float(edges[band]))
        width = min(1.0, (share / MOST_COMMON) ** 0.5) * COMMON_WIDTH
        hertz = f"{band_centres(THIRD)[band]:.0f} Hz"
        said = tag("title", f"{hertz}: {100.0 * share:.1f} % of the drums' energy lies where the bass has as much")
        box = {"x": view.profile - width, "y": top + 1, "width": width, "height": max(1.0, bottom - top - 2)}
        parts.append(tag("rect", said, class_="common-ground", **box))
    return parts


def _energy(measures: Measures, view: View) -> str:
    """Each cell in the tint of the strongest layer, as dark as the sum is loud."""
    stack = measures.stack
    layers = [layer for layer in stack.audible_layers() if f"layers/{layer.id}" in measures.grids]
    if not layers:
        return ""
    grids = power_to_db(np.array([measures.grids[f"layers/{layer.id}"] for layer in layers], np.float64))
    strongest = np.argmax(grids, axis=0)
    tints = [layer.tint for layer in layers]
    colours = np.array([TINT_RGB[tint] for tint in tints], np.uint8)
    alpha = np.clip((np.max(grids, axis=0) + 66.0) / 60.0, 0.0, 1.0) ** 1.3 * 190.0
    pixels = np.concatenate([colours[strongest], alpha[..., None].astype(np.uint8)], axis=2)[::-1]
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
        class_="energy",
    )
