"""Movements: how values come to change over time.

One notion for what the trade calls an envelope (it begins on notes and stops), an LFO (it repeats), a step pattern, an
envelope follower and automation (it begins once and is as long as the piece).
"""

from __future__ import annotations

import typing
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from apilado.core.clock import Clock
from apilado.core.dsp.courses import along
from apilado.core.parameters import choice, number, parts, reference, switch, text
from apilado.core.parts import Part
from apilado.core.shapes.drawn_course import DrawnCourse, starting_points
from apilado.core.shapes.follow_course import FollowCourse
from apilado.core.shapes.registry import AnyCourse
from apilado.core.shapes.step_course import StepCourse
from apilado.core.sketch import SKETCH_POINTS, Sketch

MOST_MOVEMENTS, MOST_TARGETS = 32, 16
FIRST_STEPS = 8
Start = Literal["ramp up", "ramp down", "triangle", "sine", "fall", "square", "steps", "random steps", "follow"]
"""What a movement can begin as."""
STARTS: tuple[Start, ...] = typing.get_args(Start)


class Target(Part):
    """A value that a movement moves, and how far."""

    path: str = Field(default="", max_length=200, description="Address of the value, as layers/mid/level_db")
    travel: Annotated[
        float,
        number(
            low=-60000.0,
            high=60000.0,
            label="Travel",
            help="In its own unit; in octaves where the value is logarithmic",
        ),
    ] = 0.0
    both_ways: Annotated[bool, switch(label="Both ways", help="As far down as up, about the value")] = False


class Movement(Part):
    """A course, when it begins, how long it takes, and what it moves."""

    label: ClassVar[str] = "Movement"

    leading: ClassVar[tuple[str, ...]] = (
        "length_beats",
        "length_ms",
        "rate_hz",
        "begins",
        "trigger",
        "section",
        "then",
        "smooth_ms",
    )

    name: Annotated[str, text(label="Name", longest=40)] = "Movement"
    on: Annotated[bool, switch(label="On")] = True
    shape: AnyCourse = Field(default_factory=DrawnCourse)
    length_in: Annotated[Literal["beats", "ms", "Hz"], choice(label="Length in")] = "beats"
    length_beats: Annotated[
        float,
        number(
            low=1 / 64,
            high=64.0,
            step=1 / 64,
            scale="log",
            unit="beats",
            label="Length",
            help="Dotted 1.5, triplet 1/3",
        ),
    ] = 1.0
    length_ms: Annotated[float, number(low=1.0, high=60000.0, step=1.0, scale="log", unit="ms", label="Length")] = 500.0
    rate_hz: Annotated[float, number(low=0.01, high=50.0, scale="log", unit="Hz", label="Rate")] = 2.0
    begins: Annotated[
        Literal["note", "bar", "hit", "section", "once", "free"],
        choice(
            label="Begins",
            names={
                "note": "on each note",
                "bar": "on each bar",
                "hit": "on each hit",
                "section": "with a section",
                "once": "once",
                "free": "runs on",
            },
        ),
    ] = "note"
    trigger: Annotated[str, reference(among="drums", label="Hits of")] = "kick"
    section: Annotated[str, reference(among="sections", label="Section")] = ""
    then: Annotated[
        Literal["holds", "repeats"], choice(label="Then", names={"holds": "stops and holds", "repeats": "repeats"})
    ] = "holds"
    smooth_ms: Annotated[float, number(low=0.0, high=1000.0, step=1.0, unit="ms", label="Smooth")] = 0.0
    scaled: Annotated[
        Literal["nothing", "velocity", "pitch"],
        choice(label="Scaled by", help="Of the note that it begins with; by pitch: in full for an octave above C2"),
    ] = "nothing"
    targets: tuple[Target, ...] = parts("target", most=MOST_TARGETS)

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing at present."""
        lengths = {"beats": "length_beats", "ms": "length_ms", "Hz": "rate_hz"}
        idle = [name for unit, name in lengths.items() if unit != self.length_in]
        if self.begins != "hit":
            idle.append("trigger")
        if self.begins != "section":
            idle.append("section")
        if self.begins != "note":
            idle.append("scaled")
        if self.begins == "free":
            idle.append("then")
        if self.shape.follows() is not None:
            idle += [*lengths.values(), "length_in", "begins", "trigger", "section", "then", "scaled"]
        return tuple(idle)

    def in_words(self) -> str:
        if self.shape.follows() is not None:
            return self.shape.in_words()
        beats = f"{self.length_beats:.4g} beat{'' if self.length_beats == 1.0 else 's'}"
        length = {"beats": beats, "ms": f"{self.length_ms:g} ms", "Hz": f"{self.rate_hz:g} Hz"}[self.length_in]
        begins = {
            "note": "on notes",
            "bar": "on bars",
            "hit": "on hits",
            "section": "with a section",
            "once": "once",
            "free": "runs on",
        }
        return f"{self.shape.in_words()}, {length}, {begins[self.begins]}"

    def sketch(self) -> Sketch | None:
        if self.shape.follows() is not None:
            return None
        return Sketch("course", along(self.shape.breakpoints(), np.linspace(0.0, 1.0, 2 * SKETCH_POINTS)))

    @property
    def repeats(self) -> bool:
        """Whether it begins again at its end."""
        return self.begins == "free" or self.then == "repeats"

    def length_frames(self, clock: Clock) -> float:
        """How long it takes, in frames."""
        if self.length_in == "Hz":
            return clock.rate_hz / self.rate_hz
        if self.length_in == "ms":
            return clock.frames_in_ms(self.length_ms)
        return self.length_beats * 60.0 / clock.tempo_bpm * clock.rate_hz


def starting_course(start: Start, *, seed: int = 1, follows: str = "kick") -> dict[str, Any]:
    """The course that a movement begins with, as it lies in a document."""
    if start == "follow":
        return FollowCourse(trigger=follows).model_dump(mode="json")
    if start == "steps":
        return StepCourse(values=(0.5,) * FIRST_STEPS).model_dump(mode="json")
    if start == "random steps":
        drawn = np.random.default_rng(seed).random(FIRST_STEPS)
        return StepCourse(values=tuple(round(float(value), 3) for value in drawn)).model_dump(mode="json")
    return DrawnCourse(points=starting_points(start)).model_dump(mode="json")
