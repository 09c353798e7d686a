"""The lanes of the Time strip: which there are, where they lie, and those of movements, to be pulled."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from apilado.core.document.addresses import find, joined, outwards, within
from apilado.core.document.movement import Movement
from apilado.core.document.stack import Stack
from apilado.core.dsp.courses import RESTART_MS
from apilado.core.render.graph import clock_of
from apilado.core.render.moves import Round, course_curve, rounds_of
from apilado.core.shapes.drawn_course import DrawnCourse
from apilado.core.shapes.step_course import StepCourse
from apilado.core.sources.base import Source
from apilado.web.drawings.lines import handle
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import View
from apilado.web.items import course_key
from apilado.web.sheets.movements import belongs, movements_of, owner_of_selection

WAVES, DUCKS = "waves", "ducks"
WEIGHTS = {WAVES: 2.0, DUCKS: 1.0}
LANE_WEIGHT, OPEN_WEIGHT = 1.0, 1.8
MOST_LANES = 8
HIT_TOP = 8.0
"""Where one hit is looked at, the ducks' lane is the first: what is pulled at its top needs room."""
GAP = 3.0
"""Pixels that a course keeps off the borders of its lane."""
NARROWEST = 14.0
"""Pixels between the points of a course, on average, below which a repetition has no handles of its own."""
MOST_HANDLES = 160
CLOSEST_TACKS, SAME = 9.0, 1e-6
TOGETHER_BEATS = 1e-3
"""Beginnings lie on frames, so that a note's length and the next one's start are not quite the same."""


@dataclass(frozen=True)
class Lane:
    """One lane: its name, and where it lies in pixels from the top of the strip."""

    name: str
    top: float
    bottom: float

    def y(self, value: float) -> float:
        """Where a value from 0 to 1 lies in it."""
        return self.bottom - GAP - value * (self.bottom - self.top - 2.0 * GAP)

    @property
    def place(self) -> dict[str, object]:
        """Attributes that tell the page where 1 and 0 lie."""
        return {"data_top": repr(self.top + GAP), "data_bottom": repr(self.bottom - GAP)}


def lanes_of(stack: Stack, view: View) -> tuple[Lane, ...]:
    """The lanes of what is selected, as high as they are pulled: waves, ducks, gain of the open step, movements."""
    owner = owner_of_selection(stack, view.selected)
    names = [DUCKS] if view.hit else [WAVES, DUCKS]
    opened = view.open if owner is not None and within(view.open, owner) else ""
    if owner is not None and not opened:  # a layer that is chosen for the first time shows its source
        opened = joined(owner, "source")
    reducing = next((path for path in outwards(opened) if getattr(find(stack, path), "reduces", False)), "")
    names += [reducing] if reducing else []
    names += _sound_in(stack, opened)
    moved = movements_of(stack, owner) if owner else ()
    names += [f"movements/{each.id}" for each in moved][: MOST_LANES - len(names)]
    high = (view.open, reducing, *_sound_in(stack, opened))
    usual = [WEIGHTS.get(name, OPEN_WEIGHT if name in high else LANE_WEIGHT) for name in names]
    weights = [view.lanes.get(name, weight) for name, weight in zip(names, usual, strict=True)]
    top = HIT_TOP if view.hit else 0.0
    edges = top + np.concatenate([[0.0], np.cumsum(weights)]) / sum(weights) * (view.strip - top)
    return tuple(
        Lane(name, float(top), float(bottom)) for name, top, bottom in zip(names, edges, edges[1:], strict=False)
    )


def _sound_in(stack: Stack, opened: str) -> list[str]:
    """The address of a source of recorded sound that is open, or in which something is."""
    for path in outwards(opened):
        source = find(stack, path)
        if isinstance(source, Source):
            return [path] if source.marks() is not None else []
    return []


def lane_named(stack: Stack, view: View, name: str) -> Lane:
    """The lane of a name; there is always one of ducks, and one of waves unless one hit is looked at."""
    return next(lane for lane in lanes_of(stack, view) if lane.name == name)


def lane_borders(stack: Stack, view: View) -> str:
    """The borders between lanes, to be pulled."""
    found = lanes_of(stack, view)
    parts = []
    for upper, lower in itertools.pairwise(found):
        y = upper.bottom
        parts.append(
            tag(
                "g",
                tag("line", class_="lane-line", x1=0, x2=view.passage, y1=y, y2=y),
                tag("line", class_="grip lane-grip", x1=0, x2=view.passage, y1=y, y2=y),
                data_between=f"{upper.name} {lower.name}",
                data_heights=f"{upper.bottom - upper.top:.1f} {lower.bottom - lower.top:.1f}",
            )
        )
    return "".join(parts)


def movement_lanes(stack: Stack, view: View) -> str:
    """The courses of the movements of what is selected, over all repetitions, with what is pulled of them."""
    owner = owner_of_selection(stack, view.selected) or ""
    parts = []
    for lane in lanes_of(stack, view):
        moved = find(stack, lane.name)
        if isinstance(moved, Movement):
            parts.append(_lane(stack, view, lane, moved, owner))
    return "".join(parts)


def _lane(stack: Stack, view: View, lane: Lane, moved: Movement, owner: str) -> str:
    path = next(target.path for target in moved.targets if belongs(target, owner))
    class_ = "move-lane" if moved.on else "move-lane is-off"
    ground = tag(
        "rect",
        class_="lane-ground",
        x=0,
        y=lane.top + 1,
        width=view.passage,
        height=max(1.0, lane.bottom - lane.top - 2),
    )
    name = label(moved.name, 6, lane.top + 13, class_="grid-label")
    if moved.shape.follows() is not None:
        return tag("g", ground, name, class_=class_, data_open=lane.name)
    rounds = rounds_of(stack, moved, path)
    curve = course_curve(stack, moved, path)
    clock = clock_of(stack, looped=True)
    first, last = view.beats(stack)
    columns = max(16, int(view.passage))
    # A beginning is steeper than a pixel is wide: where it has been reached is drawn too.
    reached = [each.start_beats + RESTART_MS / 60000.0 * stack.tempo_bpm for each in rounds]
    beats = np.sort([*np.linspace(first, last, columns), *[beat for beat in reached if first < beat < last]])
    values = np.interp(beats / stack.beats * clock.loop_frames, curve.at, curve.values)
    xs = (beats - first) / (last - first) * view.passage
    line = points((float(x), lane.y(float(v))) for x, v in zip(xs, values, strict=True))
    seen = [each for each in rounds if each.start_beats < last and each.end_beats > first]
    handles: list[str] = []
    if isinstance(moved.shape, StepCourse):
        handles = _steps(stack, view, lane, moved, seen)
    elif isinstance(moved.shape, DrawnCourse):
        handles = _points(stack, view, lane, moved, seen)
    return tag(
        "g",
        ground,
        tag("polyline", class_="course", points=line),
        *handles,
        name,
        class_=class_,
        data_lane=moved.id,
        data_kind=moved.shape.kind,
        data_count=len(moved.shape.values) if isinstance(moved.shape, StepCourse) else None,
        data_rounds=" ".join(f"{each.start_beats:.6g},{each.length_beats:.6g},{each.end_beats:.6g}" for each in seen),
        **lane.place,
    )


def _with_handles(view: View, stack: Stack, seen: list[Round], count: int) -> list[Round]:
    """The repetitions that are wide enough to be pulled; the first where none is."""
    first, last = view.beats(stack)
    per_beat = view.passage / (last - first)
    wide = [each for each in seen if each.length_beats * per_beat >= NARROWEST * count]
    return (wide or seen[:1])[: max(1, MOST_HANDLES // max(1, count))]


def _points(stack: Stack, view: View, lane: Lane, moved: Movement, seen: list[Round]) -> list[str]:
    course = moved.shape.breakpoints()
    parts = []
    for number, each in enumerate(_with_handles(view, stack, seen, min(len(course), 12))):
        taken = -CLOSEST_TACKS
        for place, (at, value, bend) in enumerate(course):
            beat = each.start_beats + at * each.length_beats
            if beat > each.end_beats + TOGETHER_BEATS:
                continue
            x, y = view.x(beat, stack), lane.y(value)
            upright = place > 0 and at - course[place - 1][0] < SAME
            if x - taken < CLOSEST_TACKS and not upright and 0 < place < len(course) - 1:
                continue  # of points that lie close, as those of a sine, some are pulled
            taken = x
            common = {
                "data_movement": moved.id,
                "data_place": place,
                "data_at": repr(float(at)),
                "data_value": repr(float(value)),
                "data_bend": repr(float(bend)),
                "data_start": repr(each.start_beats),
                "data_length": repr(each.length_beats),
                "data_key": course_key(moved.id, place),
                **lane.place,
            }
            name = f"{moved.name}, point {place + 1}"
            keyed = handle(name, float(value), f"{100 * at:.0f} %, {100 * value:.0f} %", 0, 1) if number == 0 else {}
            if place + 1 < len(course) and course[place + 1][0] - at > 1e-6:
                following, reached = course[place + 1][0], course[place + 1][1]
                half = value + (reached - value) * 0.5 ** (4.0**bend)
                middle = view.x(each.start_beats + (at + following) / 2 * each.length_beats, stack), lane.y(half)
                if abs(reached - value) > 1e-3 and middle[0] - x > 5.0:
                    grip = tag("circle", class_="bend-tack", cx=middle[0], cy=middle[1], r=3)
                    area = tag("circle", class_="grip-area", cx=middle[0], cy=middle[1], r=7)
                    parts.append(tag("g", grip, area, class_="bend-point", data_drag="bend", **common))
            tack = tag("rect", class_="course-tack", x=x - 4, y=y - 4, width=8, height=8)
            area = tag("circle", class_="grip-area", cx=x, cy=y, r=9)
            parts.append(tag("g", tack, area, class_="course-point", data_drag="course", **common, **keyed))
    return parts


def _steps(stack: Stack, view: View, lane: Lane, moved: Movement, seen: list[Round]) -> list[str]:
    steps = getattr(moved.shape, "values", ())
    parts = []
    for number, each in enumerate(seen[:MOST_HANDLES]):
        for place, value in enumerate(steps):
            beat = each.start_beats + place / len(steps) * each.length_beats
            end = min(beat + each.length_beats / len(steps), each.end_beats)
            if beat >= each.end_beats:
                break
            x, until, y = view.x(beat, stack), view.x(end, stack), lane.y(value)
            parts.append(
                tag(
                    "rect",
                    class_="step-bar",
                    x=x,
                    y=y,
                    width=max(0.5, until - x - 1.0),
                    height=max(1.0, lane.bottom - GAP - y),
                    **(
                        {
                            "data_drag": "steps",
                            "data_place": place,
                            "data_value": repr(value),
                            "data_key": f"step:{moved.id}:{place}",
                            **handle(f"{moved.name}, step {place + 1}", value, f"{100 * value:.0f} %", 0, 1),
                        }
                        if number == 0
                        else {}
                    ),
                )
            )
    parts.append(
        tag(
            "rect",
            class_="sweep",
            x=0,
            y=lane.top + 1,
            width=view.passage,
            height=lane.bottom - lane.top - 2,
            data_drag="steps",
        )
    )
    return parts
