"""What the Profile shows of the step that is open: the borders of its bands, and the curve of a drive."""

from __future__ import annotations

import json

import numpy as np
from numpy.typing import NDArray

from apilado.core.banded import Banded
from apilado.core.document.addresses import find, joined, outwards
from apilado.core.document.naming import place_name
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.crossovers import HIGHEST_BORDER_HZ, LOWEST_BORDER_HZ
from apilado.core.dsp.curves import least
from apilado.core.render.passed import Passed
from apilado.core.soundings.measures import Measures
from apilado.core.treatments.base import Treatment
from apilado.core.units import short_hz
from apilado.web.drawings.lines import handle
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import View
from apilado.web.items import band_key, point_key

CURVE_SHARE = 0.46
"""Full scale of a transfer curve lies this share of the panel off its middle, in both directions."""
CURVE_POINTS = 257
MARKS_DB = (0, -6, -12, -24)
SPREAD_BINS, SPREAD_SHARE = 129, 0.24
"""How often a level is passed is drawn this share of the panel deep at most."""


def passed_at(measures: Measures, path: str) -> Passed | None:
    """What goes into the step at an address, or into what it lies in, and what comes out."""
    return next((measures.graph.passed[each] for each in outwards(path) if each in measures.graph.passed), None)


def banded_in(stack: Stack, view: View) -> str | None:
    """The address of what is cut in bands and is open, or in which something is."""
    return next((path for path in outwards(view.open) if isinstance(find(stack, path), Banded)), None)


def inner_borders(stack: Stack, view: View) -> str:
    """The borders between the bands of a step that is open, to be pulled."""
    path = banded_in(stack, view)
    if path is None:
        return ""
    bands, parts = find(stack, path).in_bands(), []
    for number, band in enumerate(bands[1:], 2):
        here, y, shown = joined(path, "bands", band.id), view.y(band.from_hz), short_hz(band.from_hz)
        name = f"Border below band {number} of {place_name(stack, path)}"
        parts.append(
            tag(
                "g",
                tag("line", class_="inner-line", x1=0, x2=view.profile, y1=y, y2=y),
                tag("line", class_="grip", x1=0, x2=view.profile, y1=y, y2=y),
                tag("rect", class_="number-ground", x=view.profile - 66, y=y - 18, width=62, height=16),
                label(shown, view.profile - 35, y - 5, class_="number", text_anchor="middle"),
                class_="border inner-border",
                data_drag="crossover",
                data_moves=json.dumps({"op": "move-band", "band": here}),
                data_removes=json.dumps({"op": "remove", "path": here}),
                data_key=band_key(here),
                **handle(name, band.from_hz, shown, LOWEST_BORDER_HZ, HIGHEST_BORDER_HZ),
            )
        )
    return "".join(parts)


def curved_in(stack: Stack, view: View) -> tuple[str, Treatment] | None:
    """(address, step) of the drive that is open, if one is."""
    step = find(stack, view.open) if view.open else None
    return (view.open, step) if isinstance(step, Treatment) and step.has_curve else None


def curve(stack: Stack, view: View) -> str:
    """The transfer curve of a drive: what goes in from the bottom up, what comes out from left to right; where it is
    blended, thinly, what is driven alone."""
    found = curved_in(stack, view)
    if found is None:
        said = "Open a drive in the sheet: its curve is drawn here."
        return label(said, view.profile / 2, view.height - 9, class_="hint", text_anchor="middle")
    path, step = found
    inputs = np.linspace(-1.0, 1.0, CURVE_POINTS, dtype=np.float32)
    driven, blend = step.transfer(inputs), least(getattr(step, "blend", 1.0))
    lines = [
        tag("polyline", class_="transfer-curve", points=_line(view, inputs, (1.0 - blend) * inputs + blend * driven))
    ]
    if blend < 1.0:
        lines.append(tag("polyline", class_="transfer-curve is-driven", points=_line(view, inputs, driven)))
    marks = []
    for db in MARKS_DB:
        value = 10.0 ** (db / 20.0)
        for signed in (value, -value):
            y, x = _y(view, signed), _x(view, signed)
            marks.append(tag("line", class_="grid", x1=0, x2=view.profile, y1=y, y2=y))
            marks.append(tag("line", class_="grid", x1=x, x2=x, y1=0, y2=view.height))
        marks.append(label(f"{db}".replace("-", "−"), 3, _y(view, value) - 2, class_="grid-label"))
    straight = {"x1": _x(view, -1.0), "y1": _y(view, -1.0), "x2": _x(view, 1.0), "y2": _y(view, 1.0)}
    return tag(
        "g",
        *marks,
        tag("line", class_="eq-zero", x1=_x(view, 0.0), x2=_x(view, 0.0), y1=0, y2=view.height),
        tag("line", class_="eq-zero", x1=0, x2=view.profile, y1=_y(view, 0.0), y2=_y(view, 0.0)),
        tag("line", class_="curve-straight", **straight),
        *lines,
        label("out →", view.profile - 6, _y(view, 0.0) - 4, class_="grid-label", text_anchor="end"),
        label("in ↑ dB", _x(view, 0.0) + 4, view.height - 8, class_="grid-label"),
        *_curve_points(stack, view, path, step),
        data_curve=path,
        data_share=repr(CURVE_SHARE),
        data_list=joined(path, "points") if step.curve_points() else "",
        data_in=repr(step.curve_scale()[0]),
        data_out=repr(step.curve_scale()[1]),
    )


def _curve_points(stack: Stack, view: View, path: str, step: Treatment) -> list[str]:
    """The points through which a drawn curve goes, to be pulled."""
    into, out = step.curve_scale()
    parts = []
    for number, point in enumerate(step.curve_points(), 1):
        here = joined(path, "points", point.id)
        x, y = _x(view, point.output * out), _y(view, point.input / into)
        parts.append(
            tag(
                "g",
                tag("circle", class_="grip-area", cx=x, cy=y, r=10),
                tag("rect", class_="course-point", x=x - 4, y=y - 4, width=8, height=8),
                class_="curve-point",
                data_drag="curve-point",
                data_path=here,
                data_key=point_key(here),
                data_input=repr(point.input),
                data_output=repr(point.output),
                data_odd="yes" if getattr(step, "odd", False) else "",
                **handle(f"Curve point {number}", point.output, point.in_words(), -1, 1),
            )
        )
    return parts


def _line(view: View, inputs: NDArray[np.float32], outputs: NDArray[np.floating]) -> str:
    return points((_x(view, o), _y(view, i)) for i, o in zip(inputs, outputs, strict=True))


def _x(view: View, output: float) -> float:
    return view.profile * (0.5 + CURVE_SHARE * min(max(float(output), -1.05), 1.05))


def _y(view: View, given: float) -> float:
    return view.height * (0.5 - CURVE_SHARE * min(max(float(given), -1.05), 1.05))


def through_curve(measures: Measures, view: View) -> str:
    """How often each level is passed by what goes into a drive that is open, and by what comes out of it."""
    passed = measures.graph.passed.get(view.open)
    if passed is None or curved_in(measures.stack, view) is None:
        return ""
    before, after = measures.run_all([passed.before, passed.after])
    at = np.linspace(-1.0, 1.0, SPREAD_BINS)
    into = [(SPREAD_SHARE * view.profile * s, _y(view, v)) for s, v in zip(spread(before), at, strict=True)]
    out = [(_x(view, v), view.height * (1.0 - SPREAD_SHARE * s)) for s, v in zip(spread(after), at, strict=True)]
    ends = [(0.0, _y(view, -1.0)), *into, (0.0, _y(view, 1.0))], [(_x(view, -1.0), view.height), *out]
    peaks = [float(np.max(np.abs(each), initial=0.0)) for each in (before, after)]
    reach = [
        tag("line", class_="curve-reach", x1=0, x2=view.profile, y1=_y(view, v), y2=_y(view, v))
        for v in (peaks[0], -peaks[0])
    ]
    return "".join(
        (
            tag("polygon", class_="spread-in", points=points(ends[0])),
            tag("polygon", class_="spread-out", points=points([*ends[1], (_x(view, 1.0), view.height)])),
            *reach,
        )
    )


def spread(audio: Audio) -> NDArray[np.float64]:
    """How often a sound passes each level from -1 to 1, shape (SPREAD_BINS,): 1 where most often.

    By the root, so that the peaks, which are what a drive bends, are seen beside the crossings of zero.
    """
    edges = np.linspace(-1.0 - 1.0 / (SPREAD_BINS - 1), 1.0 + 1.0 / (SPREAD_BINS - 1), SPREAD_BINS + 1)
    counted, _ = np.histogram(audio, edges)
    most = float(np.max(counted[np.arange(SPREAD_BINS) != SPREAD_BINS // 2], initial=0.0))
    return np.sqrt(np.minimum(counted / most, 1.0)) if most > 0.0 else np.zeros(SPREAD_BINS)
