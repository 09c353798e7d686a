"""How long a single pass may sound after its last beat: a bound from what every part says of itself.

A bound, not a length: what is delivered is cut where it has really rung out (`actions/delivery.py`).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence

from apilado.core.clock import Clock
from apilado.core.document.addresses import joined, outwards
from apilado.core.document.declarations import parameter_at, value_at
from apilado.core.document.equaliser import Point, eq_sections, still_and_moving
from apilado.core.document.forms import forms_of
from apilado.core.document.kick import Drum
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement
from apilado.core.document.path import AnyStep, Equaliser, Split
from apilado.core.document.stack import Stack, borders_of
from apilado.core.dsp.agreement import MOST_MOVED_MS
from apilado.core.dsp.crossovers import Part, cut, in_a_row
from apilado.core.dsp.equaliser import SENT_SLOPE, butterworth_high_pass
from apilado.core.dsp.filters import Sections, settle_frames
from apilado.core.dsp.linear_phase import LOWEST_MONO_HZ, MONO_HOP_MS, Taps, band_taps, mono_low
from apilado.core.identity import ByIdentity
from apilado.core.parameters import parameters_of
from apilado.core.render.playing import root_of, score_of
from apilado.core.render.targets import MIDDLE_PITCH, targets_of
from apilado.core.treatments.base import Treatment
from apilado.core.units import beats_to_seconds

MARGIN_SECONDS = 0.1
MOST_VARIED = 4
"""So many values of a step are tried at the ends of what moves them, each with each."""


def tail_seconds(stack: Stack, rate_hz: int) -> float:
    """Seconds after the last beat by which everything in the stack has rung out."""
    return max(_form_tail(form, rate_hz) for form in _each_form(stack))


def _each_form(stack: Stack) -> tuple[Stack, ...]:
    """The stack as a whole, and as each of its sections has it."""
    return forms_of(stack).stacks


def _form_tail(stack: Stack, rate_hz: int) -> float:
    tail = Reach(stack, rate_hz)
    bus = tail.path_seconds("bus", stack.bus.path)
    bus += tail.mono_seconds("bus", stack.bus.mono_below_hz)
    shared = tail.path_seconds("shared", stack.shared.path) if stack.shared.on else 0.0
    layers = {f"layers/{layer.id}": tail.layer_seconds(layer) for layer in stack.layers}
    drums = {stack.drum_owner(name): tail.drum_seconds(name) for name in stack.drum_names()}
    through = max(layers.values(), default=0.0) + bus
    sending = {**layers, **drums, "bus": through + tail.sent_seconds()}
    sent = [sending[owner] for owner in stack.senders()]
    space = max(sent) + tail.path_seconds("space", stack.space.path) if sent else 0.0
    return max(0.0, through, space, *drums.values()) + shared + MARGIN_SECONDS


_RINGS = ByIdentity(1024)
"""For how many frames points ring, or are heard, by themselves."""
FramesOf = Callable[[Sections], int]


class Reach:
    """How far back and ahead the parts of one form of a stack reach, in seconds."""

    def __init__(self, stack: Stack, rate_hz: int) -> None:
        self.stack, self.rate_hz = stack, rate_hz
        self.clock = Clock(stack.tempo_bpm, stack.beats, rate_hz, looped=False)
        self._targets = targets_of(stack)
        self._moving = {holder for path in self._targets for holder in outwards(path)}
        """The addresses of all in which something moves."""
        self.borders = borders_of(stack.crossovers, rate_hz)

    def rings_seconds(self, sections: Sections) -> float:
        return settle_frames(sections) / self.rate_hz

    def taps_seconds(self, taps: Taps) -> float:
        return len(taps.taps) / 2.0 / self.rate_hz

    def eq_seconds(self, address: str) -> float:
        """Of the EQ at an address: its points that stand still together, those that move one by one."""
        points = self.stack.points_of(address)
        swept = {point.id: self.slowest(joined(address, "points", point.id), point) for point in points}
        still, keyed = still_and_moving(points)
        moving = [point for point in (*still, *keyed) if point in keyed or swept[point.id] is not point]
        together = eq_sections(tuple(point for point in still if point not in moving), self.rate_hz)
        return self.rings_seconds(together) + sum(
            self.rings_seconds(swept[point.id].sections(self.rate_hz)) for point in moving
        )

    def point_seconds(self, eq: str, point: Point, of: FramesOf = settle_frames) -> float:
        """Of a point of the EQ at an address by itself, where it rings longest.

        Args:
            of: for how many frames its sections ring, or are heard.
        """
        slowest = self.slowest(joined(eq, "points", point.id), point)
        frames = _RINGS.get(lambda: of(slowest.sections(self.rate_hz)), slowest, beside=(self.rate_hz, of))
        return frames / self.rate_hz

    def delay_seconds(self, layer: Layer) -> float:
        """By how much a layer comes later at most."""
        return max(layer.delay_ms, *self.reach(f"layers/{layer.id}/delay_ms"), 0.0) / 1000.0

    def sent_seconds(self, of: FramesOf = settle_frames) -> float:
        """Of the high-pass before what the bus sends."""
        if not self.stack.crossovers:
            return 0.0
        lowest = self.stack.crossovers[0].frequency_hz
        return of(butterworth_high_pass(lowest, SENT_SLOPE, self.rate_hz)) / self.rate_hz

    def band_seconds(self, band: tuple[float, float]) -> float:
        """Of a duck in a band, which is cut out twice."""
        return 2.0 * self.taps_seconds(band_taps(*band, self.rate_hz))

    def slowest(self, address: str, point: Point) -> Point:
        """A point as it rings longest within what movements do to it; itself where nothing moves it."""
        if address not in self._moving:
            return point
        names = [name for name in ("frequency_hz", "q", "gain_db") if self.reach(joined(address, name))]
        if not names:
            return point
        ends = [self.reach(joined(address, name)) for name in names]
        variants = [
            point.model_copy(update=dict(zip(names, values, strict=True))) for values in itertools.product(*ends)
        ]
        return max(variants, key=lambda each: settle_frames(each.sections(self.rate_hz)))

    def reach(self, path: str) -> tuple[float, ...]:
        """(lowest, highest) of a value that movements move; nothing where none does."""
        moving = self._targets.get(path)
        parameter = parameter_at(self.stack, path) if moving else None
        if not moving or parameter is None:
            return ()
        base = float(value_at(self.stack, path))
        most = sum(abs(target.travel) * self._most_scaled(movement) for movement, target in moving)
        if parameter.scale == "log":
            low, high = base * 2.0**-most, base * 2.0**most
        else:
            low, high = base - most, base + most
        return max(low, parameter.low), min(high, parameter.high)

    def _most_scaled(self, movement: Movement) -> float:
        """By what a movement is multiplied at most."""
        if movement.begins != "note" or movement.scaled != "pitch":
            return 1.0
        played = [self.stack.played(each) for each in (None, *(layer.notes for layer in self.stack.layers))]
        return max((abs(note.pitch - MIDDLE_PITCH) / 12.0 for notes in played for note in notes), default=0.0)

    def slowest_step(self, address: str, step: Treatment) -> Treatment:
        """A treatment as it rings longest within what movements do to it; itself where nothing moves it."""
        if address not in self._moving:
            return step
        ends = {p.name: self.reach(joined(address, p.name)) for p in parameters_of(type(step)) if p.moves}
        moved = [(name, found) for name, found in ends.items() if found][:MOST_VARIED]
        names = [name for name, _ in moved]
        variants = [
            step.model_copy(update=dict(zip(names, values, strict=True)))
            for values in itertools.product(*(found for _, found in moved))
        ]
        return max(variants, key=lambda each: each.tail_seconds(self.clock)) if moved else step

    def split_seconds(self, layer: Layer, of: Callable[[Part], float] = Part.rings_frames) -> float:
        """Of the band of a layer."""
        piece = cut(self.borders, layer.span.first, layer.span.last)
        return max(of(in_a_row([piece.common, path])) for _, path in piece.paths) / self.rate_hz

    def path_seconds(self, owner: str, path: Sequence[AnyStep]) -> float:
        """Of all steps of a path but the split."""
        return sum(self.step_seconds(joined(owner, "path", step.id), step) for step in path)

    def step_seconds(self, address: str, step: AnyStep) -> float:
        """Of a step; nothing of the split, and of what is off."""
        if isinstance(step, Split) or not step.on:
            return 0.0
        if isinstance(step, Equaliser):
            return self.eq_seconds(address)
        if isinstance(step, Treatment):
            return self.slowest_step(address, step).tail_seconds(self.clock)
        strands = step.strands()
        cut = max((strand.band.rings_seconds(self.rate_hz) for strand in strands if strand.band), default=0.0)
        moved = MOST_MOVED_MS / 1000.0 if step.aligns() else 0.0
        return cut + moved + max(self.path_seconds(joined(address, each.where), each.path) for each in strands)

    def placed_seconds(self, layer: Layer) -> float:
        """Of a layer from its source to its place."""
        mono = self.mono_seconds(f"layers/{layer.id}", layer.mono_below_hz)
        path = self.path_seconds(f"layers/{layer.id}", layer.path)
        return self.split_seconds(layer) + path + mono + self.delay_seconds(layer)

    def mono_seconds(self, owner: str, border_hz: float) -> float:
        """Of the mono border of a layer or a bus, where it lies lowest."""
        moves = self.reach(joined(owner, "mono_below_hz"))
        ends = [max(end, LOWEST_MONO_HZ) for end in moves] if moves else [border_hz]
        lowest = min((hertz for hertz in ends if hertz > 0.0), default=0.0)
        if lowest <= 0.0:
            return 0.0
        return self.taps_seconds(mono_low(lowest, self.rate_hz)) + (MONO_HOP_MS / 1000.0 if moves else 0.0)

    def layer_seconds(self, layer: Layer) -> float:
        root = root_of(self.stack, layer)
        seconds = root.source.tail_seconds(score_of(self.stack, root), self.clock)
        listed = joined("layers", root.id, "source", "filters")
        seconds += sum(self.step_seconds(joined(listed, each.id), each) for each in root.source.own_filters())
        # A layer that takes another's treated sound goes through both paths.
        chain = [layer]
        while (parent := self.stack.layer(chain[-1].source.follows() or "")) is not None:
            chain.append(parent)
        seconds += sum(self.placed_seconds(each) for each in chain)
        for ducker in self.stack.duckers:
            band = ducker.band_hz()
            share = max(ducker.amount(layer.id), *self.reach(joined("duckers", ducker.id, "amounts", layer.id)), 0.0)
            if ducker.on and band is not None and share > 0.0:
                seconds += self.band_seconds(band)
        return seconds

    def drum_seconds(self, name: str) -> float:
        drum: Drum = self.stack.drum(name)
        last = max(self.stack.hits(name), default=None)
        if last is None:
            return 0.0
        rings = self.eq_seconds(joined(self.stack.drum_owner(name), "eq"))
        left = beats_to_seconds(self.stack.beats - last, self.stack.tempo_bpm)
        return drum.sound.length_seconds() + rings + max(0.0, drum.offset_ms) / 1000.0 - left
