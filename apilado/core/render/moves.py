"""The curves of a stack: for every value that movements move, the stage of its curve."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

from pydantic import BaseModel

from apilado.core.clock import Clock
from apilado.core.document.addresses import find, outwards, owner_of, parted, parts_of, replaced, within
from apilado.core.document.declarations import parameter_at
from apilado.core.document.forms import forms_of, in_frames, of_a_movement, section_of, stepping, values_over
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement, Target
from apilado.core.document.stack import Stack
from apilado.core.dsp.curves import Curve
from apilado.core.notes import Note, voice_notes
from apilado.core.parameters import Parameter
from apilado.core.render import joins, steps
from apilado.core.render.playing import layer_notes
from apilado.core.render.stage import Memory, Stage, joined, stage
from apilado.core.render.targets import MIDDLE_PITCH, targets_of

P = TypeVar("P", bound=BaseModel)
HIGHEST_VELOCITY = 127


@dataclass(frozen=True)
class Moved:
    """What of a part moves: the addresses within it, and the stage of the curve of each."""

    names: tuple[str, ...] = ()
    curves: tuple[Stage, ...] = ()

    def without(self, inner: str) -> Moved:
        """What moves but in a part within it."""
        kept = [pair for pair in zip(self.names, self.curves, strict=True) if not within(pair[0], inner)]
        return Moved(tuple(name for name, _ in kept), tuple(curve for _, curve in kept))

    def still(self, part: P) -> P:
        """The part with its defaults where it moves: where it would stand goes into the curve alone."""
        for name in self.names:
            parameter = parameter_at(part, name)
            if parameter is not None:
                part = replaced(part, name, parameter.default)
        return part


NOTHING = Moved()


def moving(
    function: Callable[..., Any],
    *inputs: Stage,
    moved: Moved,
    remembers: Callable[[], Memory] | None = None,
    where: str = "",
    each_channel: bool = False,
    **parameters: Any,
) -> Stage:
    """The stage of a function that takes curves behind its inputs, and the names of what they move."""
    named: dict[str, Any] = {"names": moved.names, "remembers": remembers, "where": where}
    return stage(function, *inputs, *moved.curves, **named, each_channel=each_channel, **parameters)


class Moves:
    """The curves of one stack on one clock."""

    def __init__(
        self,
        stack: Stack,
        clock: Clock,
        key: Callable[[str], Stage],
        notes: Callable[[Layer], tuple[Note, ...]],
    ) -> None:
        self.stack, self.clock, self._key, self._notes = stack, clock, key, notes
        self.forms = forms_of(stack, of_a_movement)
        self._plan = in_frames(self.forms.plan, stack, self.clock)
        self._targets = [targets_of(form) for form in self.forms.stacks]
        """Of each form, what moves the value at an address."""
        self._paths = tuple(dict.fromkeys([*(path for form in self._targets for path in form), *stepping(stack)]))
        self._within: dict[str, list[str]] = {}
        """Those addresses, by that of each part that they lie in."""
        for path in self._paths:
            for part in outwards(parted(path)[0]):
                self._within.setdefault(part, []).append(path)
        self._curves: dict[str, Stage] = {}

    def of(self, address: str, *names: str) -> Moved:
        """What moves of the part at an address: anything in it, or only the values that are named."""
        paths = self._within.get(address)
        if paths is None:
            return NOTHING
        depth = len(parts_of(address))
        inner = {path: "/".join(parts_of(path)[depth:]) for path in paths}
        chosen = [path for path in paths if not names or inner[path] in names]
        return Moved(tuple(inner[path] for path in chosen), tuple(self.curve(path) for path in chosen))

    def curve(self, path: str) -> Stage:
        """The stage of the curve of the value at an address."""
        if path not in self._curves:
            parameter = parameter_at(self.stack, path)
            if parameter is None:
                raise KeyError(path)
            made = [self._moved(path, parameter, form.get(path, [])) for form in self._targets]
            octaves = parameter.scale == "log"
            self._curves[path] = joined(made, self._plan, self.clock, steps.join_curves, octaves=octaves)
        return self._curves[path]

    def _moved(self, path: str, parameter: Parameter, moving: list[tuple[Movement, Target]]) -> Stage:
        """The stage of the curve of a value that movements move, or that sections have otherwise, or both."""
        values, octaves = values_over(self.stack, path), parameter.scale == "log"
        stepped = len(values) > 1 or not moving
        courses = [self.course(movement, path) for movement, _ in moving]
        if stepped:
            frames = in_frames(tuple((bar, number) for number, (bar, _) in enumerate(values)), self.stack, self.clock)
            at = tuple((frame, values[number][1]) for frame, number in frames)
            courses.append(stage(steps.stepped, values=at, octaves=octaves, clock=self.clock))
        if not moving:
            return courses[0]
        return stage(
            steps.curve,
            *courses,
            base=None if stepped else values[0][1],
            travels=tuple((target.travel, target.both_ways) for _, target in moving),
            low=parameter.low,
            high=parameter.high,
            octaves=octaves,
        )

    def course(self, movement: Movement, path: str) -> Stage:
        """The stage of where a movement is, 0 to 1, as it moves the value at an address."""
        followed = movement.shape.follows()
        if followed is not None:
            smooth = self.clock.samples_in_ms(movement.smooth_ms)
            given: dict[str, Any] = {"course": movement.shape, "smooth_frames": smooth, "clock": self.clock}
            return stage(steps.follow, self._key(followed), **given)
        return stage(steps.course_of, **self.given(movement, *self.begins(movement, path)))

    def given(self, movement: Movement, starts: tuple[int, ...], factors: tuple[float, ...]) -> dict[str, Any]:
        """What the course of a movement is made from."""
        return {
            "course": movement.shape,
            "starts": starts,
            "factors": factors,
            "length_frames": movement.length_frames(self.clock),
            "repeats": movement.repeats,
            "smooth_frames": self.clock.samples_in_ms(movement.smooth_ms),
            "clock": self.clock,
        }

    def begins(self, movement: Movement, path: str) -> tuple[tuple[int, ...], tuple[float, ...]]:
        """(frames at which a movement begins, by what it is multiplied from each on)."""
        stack, clock = self.stack, self.clock
        factors: dict[int, float] = {}
        if movement.begins == "note":
            layer = find(stack, owner_of(path))
            notes = self._notes(layer) if isinstance(layer, Layer) else stack.played()
            factors = {clock.sample_at(n.start_beats): _factor(movement, n) for n in voice_notes(notes, clock.beats)}
        elif movement.begins == "bar":
            factors = {clock.sample_at(float(bar * stack.beats_per_bar)): 1.0 for bar in range(stack.bars)}
        elif movement.begins == "hit":
            factors = {clock.sample_at(hit): 1.0 for hit in stack.hits(movement.trigger)}
        elif movement.begins == "section":
            begun, _ = section_of(stack, movement.section).beats(stack.beats_per_bar)
            factors = {clock.sample_at(begun): 1.0}
        else:
            factors = {0: 1.0}
        found = sorted(factors.items())
        return tuple(at for at, _ in found), tuple(factor for _, factor in found)


@dataclass(frozen=True)
class Round:
    """One repetition of a movement."""

    start_beats: float
    length_beats: float
    end_beats: float
    """Where the next one begins, or the loop ends."""


def _quiet(name: str) -> Stage:
    raise KeyError(name)


def _drawn(stack: Stack) -> Moves:
    """What draws the courses of a stack, round its loop."""
    clock = Clock(stack.tempo_bpm, stack.beats, stack.sample_rate, looped=True)
    return Moves(stack, clock, _quiet, lambda layer: layer_notes(stack, layer))


def rounds_of(stack: Stack, movement: Movement, path: str) -> tuple[Round, ...]:
    """Every repetition of a movement of the value at an address over the loop, in order; sections have their own."""
    moves, found = _drawn(stack), []
    clock = moves.clock
    per_beat = clock.loop_frames / clock.beats
    spans = joins.spans(in_frames(moves.forms.plan, stack, clock), clock)
    for first, last, number in spans:
        own = find(moves.forms.stacks[number], f"movements/{movement.id}") or movement
        if not own.on and movement.on:
            continue
        starts, _ = moves.begins(own, path)
        length = own.length_frames(clock)
        for start, following in zip(starts, (*starts[1:], clock.loop_frames), strict=True):
            count = max(1, math.ceil((following - start) / length - 1e-9)) if own.repeats else 1
            for each in range(count):
                begin = start + each * length
                end = min(begin + length, following) if own.repeats else following
                if first <= begin < last:
                    found.append(Round(begin / per_beat, length / per_beat, min(end, float(last)) / per_beat))
    return tuple(found)


def course_curve(stack: Stack, movement: Movement, path: str) -> Curve:
    """Where a movement that follows nothing is over the loop, 0 to 1, as it moves the value at an address; in sections
    as they have it."""
    moves, curves = _drawn(stack), []
    for form in moves.forms.stacks:
        own = find(form, f"movements/{movement.id}") or movement
        curves.append(steps.course_of(**moves.given(own, *moves.begins(own, path))))
    plan = in_frames(moves.forms.plan, stack, moves.clock)
    return joins.joined_curves(curves, plan, octaves=False, clock=moves.clock) if len(curves) > 1 else curves[0]


def ends_of(parameter: Parameter, value: float, target: Target) -> tuple[float, float]:
    """Between which values a target travels, within its range: where its course is at 0, and where it is at 1."""
    low = -target.travel if target.both_ways else 0.0
    ends = [value * 2.0**by if parameter.scale == "log" else value + by for by in (low, target.travel)]
    begin, end = (min(max(each, parameter.low), parameter.high) for each in ends)
    return begin, end


def _factor(movement: Movement, note: Note) -> float:
    """By what a movement is multiplied from a note on."""
    if movement.scaled == "velocity":
        return note.velocity / HIGHEST_VELOCITY
    return (note.pitch - MIDDLE_PITCH) / 12.0 if movement.scaled == "pitch" else 1.0
