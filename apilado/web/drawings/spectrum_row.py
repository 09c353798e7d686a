"""Spectra of the Quarry: one sound's on the frequency axis that all of them share, lying, low at the left."""

from __future__ import annotations

import math

import numpy as np

from apilado.actions.quarry import PER_OCTAVE, spectrum_levels
from apilado.core.measure.bands import band_centres
from apilado.web.drawings.svg import label, points, tag

LOW_HZ, HIGH_HZ = 20.0, 20000.0
WIDE, NARROW = 460.0, 300.0
"""On a page of its own; in the drawer of a bench."""
HEIGHT, AXIS_HEIGHT = 34.0, 20.0
RANGE_DB = 54.0
"""Under the loudest band: so much of a spectrum is shown."""
SUB_LOW_HZ, SUB_HIGH_HZ = 40.0, 90.0
RULED = (
    *((20.0, "20"), (50.0, "50"), (100.0, "100"), (200.0, "200"), (500.0, "500")),
    *((1000.0, "1k"), (2000.0, "2k"), (5000.0, "5k"), (10000.0, ""), (20000.0, "20k Hz")),
)


def across(hertz: float, width: float) -> float:
    """Where a frequency lies, from the left."""
    share = math.log(max(hertz, LOW_HZ) / LOW_HZ) / math.log(HIGH_HZ / LOW_HZ)
    return width * min(1.0, share)


def _ground(width: float, height: float) -> list[str]:
    low, high = across(SUB_LOW_HZ, width), across(SUB_HIGH_HZ, width)
    places = [across(hertz, width) for hertz, _ in RULED]
    rules = [tag("line", class_="rule", x1=x, x2=x, y1=0, y2=height) for x in places]
    return [tag("rect", class_="sub-range", x=low, y=0, width=high - low, height=height), *rules]


def _drawn(width: float, height: float, *parts: str, **attributes: object) -> str:
    size = {"viewBox": f"0 0 {width:.0f} {height:.0f}", "width": width, "height": height}
    return tag("svg", *_ground(width, height), *parts, **size, **attributes)


def spectrum_axis(width: float) -> str:
    """SVG of the axis that all rows share."""
    anchors = {0: "start", len(RULED) - 1: "end"}
    labels = [
        label(
            said, across(hz, width), AXIS_HEIGHT - 6.0, class_="axis-number", text_anchor=anchors.get(number, "middle")
        )
        for number, (hz, said) in enumerate(RULED)
    ]
    return _drawn(
        width, AXIS_HEIGHT, *labels, class_="spectrum-axis", role="img", aria_label="Frequency, 20 Hz to 20 kHz"
    )


def spectrum_row(kept: bytes, frequency_hz: float | None, said: str, width: float) -> str:
    """SVG of one sound's spectrum, against its own loudest band.

    Args:
        kept: its levels, as they are kept; empty where it was not measured.
        frequency_hz: its pitch, which is marked.
        said: what it is, for those who do not see it.
    """
    levels = np.array(spectrum_levels(kept))
    parts = []
    if levels.size:
        heights = np.clip(1.0 + (levels - levels.max()) / RANGE_DB, 0.0, 1.0) * (HEIGHT - 3.0)
        places = zip(band_centres(PER_OCTAVE), heights, strict=True)
        line = [(across(float(hertz), width), HEIGHT - float(up)) for hertz, up in places]
        parts.append(tag("polygon", class_="spectrum-body", points=points([(0.0, HEIGHT), *line, (width, HEIGHT)])))
    if frequency_hz is not None:
        x = across(frequency_hz, width)
        parts.append(tag("line", class_="pitch-mark", x1=x, x2=x, y1=0, y2=HEIGHT))
    return _drawn(width, HEIGHT, *parts, class_="spectrum-row", role="img", aria_label=said)


def row_drawn(width: float, *parts: str, said: str) -> str:
    """SVG of a row of something else on the same axis."""
    return _drawn(width, HEIGHT, *parts, class_="spectrum-row", role="img", aria_label=said)
