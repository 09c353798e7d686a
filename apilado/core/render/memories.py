"""What each kind of stage needs to know around a moment, reckoned from the parts of a stack that it is made of."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import cast

from apilado.core.banded import Banded
from apilado.core.clock import Clock
from apilado.core.document.addresses import find
from apilado.core.document.equaliser import KeyedBell, Point
from apilado.core.document.kick import Drum
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Limiter, Stack
from apilado.core.dsp.agreement import MOST_MOVED_MS
from apilado.core.dsp.crossovers import Part
from apilado.core.dsp.dynamics import FORGOTTEN
from apilado.core.dsp.filters import heard_frames, settle_frames
from apilado.core.identity import ByIdentity
from apilado.core.render.stage import Memory
from apilado.core.render.tail import FramesOf, Reach
from apilado.core.shapes.base import DuckShape
from apilado.core.treatments.base import Treatment

EDGE_S = 0.01
"""More than what is interpolated, oversampled or limited looks about itself."""
FIT_S = MOST_MOVED_MS / 1000.0


def _of_point(eq: str, point: Point, of: FramesOf, reach: Reach) -> float:
    return reach.point_seconds(eq, point, of)


_OF_TREATMENTS = ByIdentity(1024)
"""The memories of treatments, which stay the same objects as long as no edit changes them."""


def _of_treatment(step: Treatment, clock: Clock, to_a_drum: bool) -> Memory:
    fades, levels = step.fading_seconds(clock), step.level_memory_ms(clock) / 1000.0
    rings, ahead = step.memory_seconds(clock) - fades + EDGE_S, step.ahead_seconds(clock) + EDGE_S
    return Memory(rings, fades + levels, 0.0, ahead) if to_a_drum else Memory(rings, fades, levels, ahead)


class Memories:
    """Of the stages of a stack that is made in some forms: in the one in which each reaches furthest."""

    def __init__(self, forms: Sequence[Stack], clock: Clock) -> None:
        self._reaches = [Reach(form, clock.rate_hz) for form in forms]
        self._clock = clock

    def _furthest(self, reach: Callable[[Reach], float]) -> float:
        return max(reach(each) for each in self._reaches)

    def points(self, eq: str, points: tuple[Point, ...], linear_phase: bool) -> Memory:
        """Of points of the EQ at an address, as slow as what moves them lets them be."""
        of = settle_frames if linear_phase else heard_frames
        seconds = sum(self._furthest(partial(_of_point, eq, point, of)) for point in points)
        return Memory(seconds, ahead_s=seconds) if linear_phase else Memory(fades_s=seconds)

    @staticmethod
    def opening(bell: KeyedBell) -> Memory:
        """Of how far a trigger opens a bell: all that it remembers, for a trigger is quickly rendered."""
        return Memory(fades_s=FORGOTTEN * (bell.attack_ms + bell.release_ms) / 1000.0)

    def split(self, owner: str) -> Memory:
        """Of the band of a layer."""
        linear = any(border.kind == "linear-phase" for reach in self._reaches for border in reach.stack.crossovers)
        of = Part.rings_frames if linear else Part.heard_frames
        seconds = self._furthest(lambda reach: reach.split_seconds(cast(Layer, find(reach.stack, owner)), of))
        return Memory(rings_s=seconds, ahead_s=seconds) if linear else Memory(fades_s=seconds)

    def bands(self, address: str) -> Memory:
        """Of the bands of a container."""
        linear = any(find(reach.stack, address).phase == "linear-phase" for reach in self._reaches)
        of = Part.rings_frames if linear else Part.heard_frames
        seconds = self._furthest(
            lambda reach: cast(Banded, find(reach.stack, address)).rings_seconds(reach.rate_hz, of)
        )
        return Memory(rings_s=seconds, ahead_s=seconds) if linear else Memory(fades_s=seconds)

    def sent(self) -> Memory:
        """Of the high-pass before what the bus sends."""
        return Memory(fades_s=self._furthest(lambda reach: reach.sent_seconds(heard_frames)))

    @staticmethod
    def fitted() -> Memory:
        """Of a chain that is moved so that it agrees."""
        return Memory(rings_s=FIT_S, ahead_s=FIT_S)

    def place(self, layer: Layer) -> Memory:
        """Of where a layer stands: it may come later."""
        return Memory(rings_s=self._furthest(lambda reach: reach.delay_seconds(layer)) + EDGE_S, ahead_s=EDGE_S)

    def mono(self, owner: str, border_hz: float) -> Memory:
        """Of the mono border of a layer or a bus."""
        rings = self._furthest(lambda reach: reach.mono_seconds(owner, border_hz))
        return Memory(rings_s=rings, ahead_s=rings)

    def band(self, band: tuple[float, float]) -> Memory:
        """Of a duck in a band."""
        rings = self._furthest(lambda reach: reach.band_seconds(band))
        return Memory(rings_s=rings, ahead_s=rings)

    def treatment(self, address: str, step: Treatment) -> Memory:
        """Of a treatment, as slow as what moves it lets it be; of one that listens to a drum all that it remembers, for
        a drum is quickly rendered."""
        slowest = [reach.slowest_step(address, step) for reach in self._reaches]
        step = slowest[0] if len(slowest) == 1 else max(slowest, key=lambda each: each.memory_seconds(self._clock))
        beside = self._clock, step.follows() in self._reaches[0].stack.drum_names()
        memory: Memory = _OF_TREATMENTS.get(lambda: _of_treatment(step, *beside), step, beside=beside)
        return memory

    @staticmethod
    def drum(drum: Drum) -> Memory:
        """Of a drum that plays before or behind its hits."""
        off = abs(drum.offset_ms) / 1000.0 + EDGE_S
        return Memory(rings_s=off, ahead_s=off)

    @staticmethod
    def duck(shape: DuckShape) -> Memory:
        """Of a gain reduction: all that it remembers, for what it follows is quickly rendered."""
        return Memory(shape.memory_ms() / 1000.0, ahead_s=shape.lead_ms() / 1000.0 + EDGE_S)

    @staticmethod
    def limiter(limiter: Limiter) -> Memory:
        """Of the limiter of a bus."""
        return Memory(EDGE_S, levels_s=FORGOTTEN * limiter.release_ms / 1000.0, ahead_s=EDGE_S)
