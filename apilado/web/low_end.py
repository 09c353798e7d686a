"""What the sheet says of the low end, measured: the sub workshop and the cost of mono."""

from __future__ import annotations

from dataclasses import dataclass

from apilado.core.document.editing import Edit
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
from apilado.core.measure.fullness import FLATTEST_SINGLE_PEAK, LOWEST_PEAK, Fullness
from apilado.core.measure.kick_phase import KickMeeting
from apilado.core.soundings.low_end import (
    BorderAdvice,
    Shape,
    Shift,
    border_advice,
    even_edit,
    shapes,
    shifts,
    subs_in_place,
    subs_under,
)
from apilado.core.soundings.measures import Measures
from apilado.web.drawings.svg import label, points, tag

WIDTH, HEIGHT = 284.0, 84.0
MOST_THIRD = 0.3


@dataclass(frozen=True)
class Workshop:
    """Everything the sub's sheet shows besides plain controls."""

    sub: Layer | None
    full: Fullness | None
    cycle: str
    border: BorderAdvice | None
    shifts: list[Shift]
    shapes: list[Shape]
    even: Edit | None
    spread_db: float
    under: list[tuple[Layer, Edit]]
    instead: list[tuple[Layer, Edit]]
    kick: KickMeeting | None
    kick_edits: list[tuple[str, Edit]]
    kick_offset_ms: float


def workshop(measures: Measures) -> Workshop:
    """The sub workshop of a stack."""
    sub, full, kick = measures.sub, measures.fullness, measures.kick_meeting
    levels = [n.level_db for n in measures.notes[sub.id] if n.level_db > -70.0] if sub else []
    offset_ms = 0.0
    edits: list[tuple[str, Edit]] = []
    if kick is not None and kick.meets:
        stack = measures.stack
        turned = "normal" if stack.kick.polarity == "inverted" else "inverted"
        offset_ms = 1000.0 * kick.best_offset_frames / measures.clock.rate_hz
        if kick.inverted_db > kick.gain_db:
            edits.append(("Turn the kick's polarity", SetValue(path="kick/polarity", value=turned)))
        wanted = round(stack.kick.offset_ms + offset_ms, 2)
        if kick.best_offset_frames and -20.0 <= wanted <= 20.0:
            edits.append((f"Move the kick by {offset_ms:+.2f} ms", SetValue(path="kick/offset_ms", value=wanted)))
    return Workshop(
        sub=sub,
        full=full,
        cycle=cycle_drawing(full) if full else "",
        border=border_advice(measures),
        shifts=shifts(measures),
        shapes=shapes(sub) if sub else [],
        even=even_edit(measures),
        spread_db=max(levels) - min(levels) if levels else 0.0,
        under=list(subs_under(measures)),
        instead=list(subs_in_place(measures.stack)),
        kick=kick,
        kick_edits=edits,
        kick_offset_ms=offset_ms,
    )


def cycle_drawing(full: Fullness) -> str:
    """One cycle, and under it the third harmonic on a scale with the marks of 1/9 and 1/6."""
    middle, reach = HEIGHT / 2.0 - 8.0, HEIGHT / 2.0 - 12.0
    count = len(full.cycle)
    line = points((i * WIDTH / (count - 1), middle - float(v) / full.peak * reach) for i, v in enumerate(full.cycle))
    parts = [
        tag("line", class_="grid", x1=0, x2=WIDTH, y1=middle, y2=middle),
        tag("polyline", class_="cycle", points=line),
    ]
    scale, base = WIDTH / MOST_THIRD, HEIGHT - 6.0
    parts.append(tag("line", class_="lane-line", x1=0, x2=WIDTH, y1=base, y2=base))
    for value, name in ((FLATTEST_SINGLE_PEAK, "1/9"), (LOWEST_PEAK, "1/6")):
        parts.append(tag("line", class_="bar-line", x1=value * scale, x2=value * scale, y1=base - 8, y2=base + 4))
        parts.append(label(name, value * scale + 3, base - 2, class_="grid-label"))
    x = min(max(full.third, 0.0), MOST_THIRD) * scale
    parts.append(tag("path", class_="bob", d=f"M{x:.1f} {base:.1f} l-5 -9 h10 z"))
    return tag(
        "svg", *parts, viewBox=f"0 0 {WIDTH:.0f} {HEIGHT:.0f}", class_="drawing cycle-drawing", aria_hidden="true"
    )
