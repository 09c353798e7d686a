"""The Profile as measured: spectra, what the balance is compared with, and who covers whom."""

from __future__ import annotations

from html import escape

import numpy as np

from apilado.core.document.addresses import find
from apilado.core.document.layer import Layer
from apilado.core.measure.balance import third_levels
from apilado.core.measure.bands import NOMINAL_THIRDS, band_centres, band_edges
from apilado.core.measure.stem import FINE, THIRD
from apilado.core.soundings.comparison import balance_against_piece, balance_against_target, mix_measures
from apilado.core.soundings.measures import Measures
from apilado.web.drawings.given_harmonics import given_harmonics
from apilado.web.drawings.lines import tint_and_state
from apilado.web.drawings.open_step import passed_at, through_curve
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import LEVEL_LOW_DB, View

THIRD_OVER_TWELFTH_DB = 6.02
EDGE_WIDTH = 46.0
LEAST_COMMON, MOST_COMMON = 0.002, 0.2
"""Bars of common ground: shares of the drums' energy."""
COVERED_LEAST, COVERED_FROM_DB, COVERED_MOST_DB = 1e-3, 1.0, 18.0
"""Bars of covering: bands that hold this much of a layer's strongest, and their decibels."""


def profile(measures: Measures, view: View) -> str:
    """Spectra of layers, sum and drums; at the right edge, who stands in whose way. Or what goes through a curve."""
    if view.mode == "curve":
        return through_curve(measures, view)
    centres = band_centres(FINE)

    def line(levels: np.ndarray) -> str:
        return points((view.level_x(float(v)), view.y(float(f))) for f, v in zip(centres, levels, strict=True))

    parts = [given_harmonics(measures, view)] if view.mode == "harmonics" else []
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
        states = f"layer {tint_and_state(stack, layer, view)}" + (
            " is-selected" if view.selected == f"layer:{layer.id}" else ""
        )
        parts.append(tag("g", tag("polygon", class_="spectrum", points=closed), class_=states))
    passed = passed_at(measures, view.open)
    if passed is not None:
        for sound, class_ in ((passed.before, "step-in"), (passed.after, "step-out")):
            parts.append(tag("polyline", class_=class_, points=line(measures.measured(sound).fine_db)))
    if float(np.max(measures.kick.fine_db)) > LEVEL_LOW_DB and "kick" in measures.heard_drums:
        parts.append(tag("polyline", class_="kick-spectrum", points=line(measures.kick.fine_db)))
    for name in measures.heard_drums:
        if name != "kick":
            stem = measures.measured(measures.graph.drums[name])
            parts.append(tag("polyline", class_="kick-spectrum is-other", points=line(stem.fine_db)))
    if measures.space is not None and float(np.max(measures.space.fine_db)) > LEVEL_LOW_DB:
        chosen_too = " is-selected" if view.selected == "space" else ""
        said = tag("title", "The space")
        levels = line(measures.space.fine_db)
        parts.append(tag("polyline", said, class_=f"space-spectrum{chosen_too}", points=levels))
    if measures.backing is not None:
        said = tag("title", "The backing")
        levels = line(measures.measured(measures.backing).fine_db)
        parts.append(tag("polyline", said, class_="backing-spectrum", points=levels))
    chosen = view.selected_layer(stack)
    if view.selected == "balance":
        parts += _compared(measures, view)
    elif chosen is not None and chosen in stack.audible_layers():
        parts += _coverings(measures, view, chosen)
    else:
        parts += _common_ground(measures, view)
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


def _coverings(measures: Measures, view: View, layer: Layer) -> list[str]:
    """At the right edge, for each third-octave: who covers the chosen layer most, in its tint, and by how much."""
    room, part = measures.room, f"layers/{layer.id}"
    if part not in room.names:
        return []
    own = np.mean(room.of(part), axis=1)
    there = own > float(np.max(own, initial=0.0)) * COVERED_LEAST
    others = [name for name in room.names if name != part]
    covered = np.array([np.where(there, room.covered_db(part, name), 0.0) for name in others])
    parts = []
    for band in range(own.shape[0]):
        most = int(np.argmax(covered[:, band])) if others else 0
        by_db = float(covered[most, band]) if others else 0.0
        if by_db < COVERED_FROM_DB:
            continue
        coverer = find(measures.stack, others[most])
        hertz = NOMINAL_THIRDS[band]
        said = f"{measures.stack.owner_name(others[most])} covers {layer.name} by {by_db:.1f} dB at {hertz} Hz"
        tint = f"tint-{coverer.tint}" if isinstance(coverer, Layer) else "is-drum"
        parts.append(_edge_bar(view, band, by_db / COVERED_MOST_DB, said, f"covering {tint}"))
    return parts


def _common_ground(measures: Measures, view: View) -> list[str]:
    """At the right edge, a bar for each third-octave: what the drums and the bass have in common."""
    stack, room = measures.stack, measures.room
    drums = tuple(stack.drum_owner(name) for name in measures.heard_drums)
    layers = tuple(f"layers/{layer.id}" for layer in stack.audible_layers())
    if not drums or not layers:
        return []
    common = np.mean(np.minimum(room.together(drums), room.together(layers)), axis=1)
    whole = float(np.sum(np.mean(room.together(drums), axis=1)))
    parts = []
    for band, power in enumerate(common):
        share = float(power) / whole if whole > 0.0 else 0.0
        if share >= LEAST_COMMON:
            said = (
                f"{NOMINAL_THIRDS[band]} Hz: {100.0 * share:.1f} % of the drums' energy lies where the bass has as much"
            )
            parts.append(_edge_bar(view, band, (share / MOST_COMMON) ** 0.5, said, "common-ground"))
    return parts


def _edge_bar(view: View, band: int, share: float, said: str, class_: str) -> str:
    """A bar of a third-octave at the right edge of the Profile, as long as a share of the most there is room for."""
    edges = band_edges(THIRD)
    top, bottom = view.y(float(edges[band + 1])), view.y(float(edges[band]))
    width = min(1.0, share) * EDGE_WIDTH
    box = {"x": view.profile - width, "y": top + 1, "width": width, "height": max(1.0, bottom - top - 2)}
    return tag("rect", tag("title", escape(said)), class_=class_, **box)
