"""The lane of a recorded sound that is open: its wave from end to end, on a time axis of its own, and what is cut of
it: where it begins and ends, what is held, its slices."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from apilado.core.assets import AssetLoader
from apilado.core.document.addresses import find
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio, as_stereo
from apilado.core.measure.passage import outline
from apilado.core.render.stage import stage
from apilado.core.soundings.measures import Measures
from apilado.core.sources.base import Marks
from apilado.web.drawings.lanes import Lane, lanes_of
from apilado.web.drawings.lines import handle
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import View

Seconds = Callable[[str], float]
"""How long the audio of an asset is, by its SHA-256."""
LEAST_PEAK = 1e-4


def sound_lane(stack: Stack, view: View) -> tuple[Lane, Marks] | None:
    """(the lane of the recorded sound that is open, what is cut of it); None where none is."""
    for lane in lanes_of(stack, view):
        source = find(stack, lane.name)
        marks = source.marks() if hasattr(source, "marks") else None
        if marks is not None:
            return lane, marks
    return None


def sound_marks(stack: Stack, view: View, seconds_of: Seconds) -> str:
    """What is cut of a sound, to be pulled."""
    found = sound_lane(stack, view)
    if found is None:
        return ""
    lane, marks = found
    total_ms = 1000.0 * seconds_of(marks.asset)
    if total_ms <= 0.0:
        return ""

    def x(ms: float) -> float:
        return view.passage * min(max(ms / total_ms, 0.0), 1.0)

    first, last = (marks.places[name].ms for name in ("start", "end"))
    last = last if last > 0.0 else total_ms
    high = lane.bottom - lane.top - 2.0
    parts = [
        tag("rect", class_="cut-off", x=x(begin), y=lane.top + 1, width=max(0.0, x(end) - x(begin)), height=high)
        for begin, end in ((0.0, first), (last, total_ms))
    ]
    if marks.held_ms:
        begin, end = marks.held_ms
        parts.append(tag("rect", class_="cut-held", x=x(begin), y=lane.top + 1, width=x(end) - x(begin), height=high))
    for number, ms in enumerate(marks.slices_ms):
        values = {"data_name": "slices_ms", "data_place": number}
        parts.append(_mark(lane, x(ms), ms, total_ms, f"Slice {number + 1}", "is-slice", values))
    for name, place in marks.places.items():
        ms = place.ms if name != "end" or place.ms > 0.0 else total_ms
        values = {"data_name": place.value, "data_less": repr(place.less)}
        parts.append(_mark(lane, x(ms), ms, total_ms, name.capitalize(), f"is-{name}", values))
    said = f"{marks.file_name}, {total_ms / 1000.0:.2f} s from end to end"
    return tag(
        "g",
        *parts,
        label(said, view.passage - 6, lane.bottom - 5, class_="grid-label", text_anchor="end"),
        class_="sound-marks",
        data_source=lane.name,
        data_total=repr(total_ms),
        data_slices=",".join(f"{ms:g}" for ms in marks.slices_ms),
    )


def _mark(lane: Lane, x: float, ms: float, total_ms: float, name: str, class_: str, values: dict[str, object]) -> str:
    return tag(
        "g",
        tag("line", class_="cut-line", x1=x, x2=x, y1=lane.top + 1, y2=lane.bottom - 1),
        tag("path", class_="cut-tack", d=f"M {x:.1f} {lane.top + 2:.1f} l 6 0 l -6 8 z"),
        tag("line", class_="grip cut-grip", x1=x, x2=x, y1=lane.top + 1, y2=lane.bottom - 1),
        class_=f"cut-mark {class_}",
        data_drag="cut",
        data_ms=repr(ms),
        data_key=f"cut:{lane.name}/{name}",
        **values,
        **handle(name, ms, f"{ms:.0f} ms", 0, total_ms),
    )


def sound_wave(measures: Measures, view: View) -> str:
    """The wave of a recorded sound that is open."""
    found = sound_lane(measures.stack, view)
    if found is None:
        return ""
    lane, marks = found
    columns = max(16, int(view.passage))
    given = {"asset": marks.asset, "rate_hz": measures.clock.rate_hz, "columns": columns}
    low, high = measures.run(stage(drawn_wave, context={"load": measures.load}, **given))
    scale = 1.0 / max(float(np.max(np.abs((low, high)))), LEAST_PEAK)
    middle, reach = (lane.top + lane.bottom) / 2.0, (lane.bottom - lane.top) / 2.0 - 3.0
    xs = (np.arange(columns) + 0.5) * view.passage / columns
    upper, lower = (
        [(float(a), middle - float(v) * scale * reach) for a, v in zip(xs, e, strict=True)] for e in (high, low)
    )
    return tag("polygon", class_="sound-wave", points=points(upper + lower[::-1]))


def drawn_wave(*, asset: str, rate_hz: int, columns: int, load: AssetLoader) -> tuple[np.ndarray, np.ndarray]:
    """(lowest, highest) sample of an asset in each of so many equal parts."""
    audio: Audio = as_stereo(load(asset, rate_hz))
    found = outline(audio, first=0, last=audio.shape[1], columns=min(columns, audio.shape[1]))
    pad = columns - found.low.shape[0]
    return np.pad(found.low, (0, pad)), np.pad(found.high, (0, pad))
