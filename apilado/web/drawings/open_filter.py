"""A filter that is open, in the Profile: its response, a handle for it, and how far movements take its frequency."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from apilado.core.assets import AssetLoader
from apilado.core.document.addresses import find, joined, parted
from apilado.core.document.naming import place_name
from apilado.core.document.stack import Stack
from apilado.core.render.tail import Reach
from apilado.core.treatments.base import Handle, Treatment
from apilado.core.units import gain_to_db, short_hz
from apilado.web.drawings.lines import handle
from apilado.web.drawings.svg import points, tag
from apilado.web.drawings.view import GAIN_SHARE, GAIN_SPAN_DB, HIGHEST_HZ, LOWEST_HZ, View

DRAWN_POINTS = 240


def open_filter(stack: Stack, view: View, load: AssetLoader) -> str:
    """What a step that is open does to each frequency, and the handle by which it is pulled, if it has these."""
    step: Any = next((each for each in _around(stack, view.open) if isinstance(each, Treatment)), None)
    at = np.geomspace(LOWEST_HZ, HIGHEST_HZ, DRAWN_POINTS)
    response = step.response(at, stack.sample_rate, load) if step is not None else None
    if response is None:
        return ""
    gains, held = gain_to_db(np.abs(response)), step.handle()
    curve = points((view.gain_x(float(g)), view.y(float(f))) for f, g in zip(at, gains, strict=True))
    line = tag("polyline", class_="filter-curve" if step.on else "filter-curve is-off", points=curve)
    return line if held is None else _travel(stack, view, held) + line + _handle(stack, view, held)


def _around(stack: Stack, address: str) -> Iterator[Any]:
    """What is at an address, and what that lies in, outwards."""
    while address:
        yield find(stack, address)
        address = parted(address)[0]


def _handle(stack: Stack, view: View, held: Handle) -> str:
    x, y = view.gain_x(GAIN_SPAN_DB * held.share), view.y(held.hertz)
    return tag(
        "g",
        tag("line", class_="eq-stem", x1=view.gain_x(0.0), x2=x, y1=y, y2=y),
        tag("path", class_="filter-tack", d=f"M {x - 6:.1f} {y:.1f} l 6 -6 l 6 6 l -6 6 z"),
        tag("circle", class_="grip-area", cx=x, cy=y, r=12),
        class_="filter-point",
        data_drag="filter",
        data_path=view.open,
        data_up=held.frequency,
        data_sideways=held.sideways,
        data_most=repr(held.most),
        data_key=f"filter:{view.open}",
        data_frequency=repr(held.hertz),
        data_share=repr(held.share),
        data_width=repr(GAIN_SHARE),
        **handle(f"Handle of {place_name(stack, view.open)}", held.hertz, held.words, 20, 18000),
    )


def _travel(stack: Stack, view: View, held: Handle) -> str:
    """The stretch through which movements, or the notes, take its frequency."""
    reach = Reach(stack, stack.sample_rate).reach(joined(view.open, held.frequency)) if held.frequency else ()
    if not reach:
        return ""
    top, bottom = view.y(reach[1]), view.y(reach[0])
    said = f"It moves from {short_hz(reach[0])} to {short_hz(reach[1])}"
    place = {"x": 0, "y": top, "width": view.profile, "height": max(1.0, bottom - top)}
    return tag("rect", tag("title", said), class_="filter-travel", **place)
