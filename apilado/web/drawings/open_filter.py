"""A filter that is open, in the Profile: its response, a handle for its cutoff and its resonance, and how far movements
take the cutoff."""

from __future__ import annotations

import numpy as np

from apilado.core.document.addresses import find, joined
from apilado.core.document.naming import place_name
from apilado.core.document.stack import Stack
from apilado.core.render.tail import Reach
from apilado.core.treatments.filter import Filter
from apilado.core.units import gain_to_db, short_hz
from apilado.web.drawings.lines import handle
from apilado.web.drawings.svg import points, tag
from apilado.web.drawings.view import GAIN_SHARE, GAIN_SPAN_DB, HIGHEST_HZ, LOWEST_HZ, View

DRAWN_POINTS = 240


def filter_open(stack: Stack, view: View) -> Filter | None:
    """The filter that is open, if one is."""
    found = find(stack, view.open) if view.open else None
    return found if isinstance(found, Filter) else None


def open_filter(stack: Stack, view: View) -> str:
    """What a filter that is open does, and what it is pulled by: up and down the cutoff, left and right the resonance;
    of a vowel, which it is."""
    step = filter_open(stack, view)
    if step is None:
        return ""
    at = np.geomspace(LOWEST_HZ, HIGHEST_HZ, DRAWN_POINTS)
    gains = gain_to_db(np.abs(step.response(at, stack.sample_rate)))
    curve = points((view.gain_x(float(g)), view.y(float(f))) for f, g in zip(at, gains, strict=True))
    line = tag("polyline", class_="filter-curve" if step.on else "filter-curve is-off", points=curve)
    return _travel(stack, view) + line + _handle(stack, view, step)


def _handle(stack: Stack, view: View, step: Filter) -> str:
    vowel = step.shape == "vowel"
    hertz = step.middle_hz()
    share = step.vowel / 4.0 if vowel else step.resonance
    x, y = view.gain_x(GAIN_SPAN_DB * share), view.y(hertz)
    name = f"{'Vowel' if vowel else 'Cutoff'} of {place_name(stack, view.open)}"
    said = f"vowel {step.vowel:.2f}" if vowel else f"{short_hz(hertz)}, resonance {step.resonance:.2f}"
    return tag(
        "g",
        tag("line", class_="eq-stem", x1=view.gain_x(0.0), x2=x, y1=y, y2=y),
        tag("path", class_="filter-tack", d=f"M {x - 6:.1f} {y:.1f} l 6 -6 l 6 6 l -6 6 z"),
        tag("circle", class_="grip-area", cx=x, cy=y, r=12),
        class_="filter-point",
        data_drag="filter",
        data_path=view.open,
        data_vowel="yes" if vowel else "",
        data_key=f"filter:{view.open}",
        data_frequency=repr(hertz),
        data_share=repr(share),
        data_width=repr(GAIN_SHARE),
        **handle(name, hertz, said, 20, 18000),
    )


def _travel(stack: Stack, view: View) -> str:
    """The stretch through which movements, or the notes, take the cutoff."""
    reach = Reach(stack, stack.sample_rate).reach(joined(view.open, "cutoff_hz"))
    if not reach:
        return ""
    top, bottom = view.y(reach[1]), view.y(reach[0])
    said = f"Its cutoff moves from {short_hz(reach[0])} to {short_hz(reach[1])}"
    place = {"x": 0, "y": top, "width": view.profile, "height": max(1.0, bottom - top)}
    return tag("rect", tag("title", said), class_="filter-travel", **place)
