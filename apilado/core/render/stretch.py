"""A stretch of the piece: its endless repetition from any frame on, as it sounds there.

The same stages run on a clock that begins earlier by as much as what sounds can remember, and ends later by as much as
it looks ahead; both are thrown away. What follows from notes, hits and curves alone is there exactly.
"""

from __future__ import annotations

from dataclasses import dataclass

from apilado.core.clock import Clock
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.render.graph import Graph, build, clock_of
from apilado.core.render.tail import look_ahead_seconds, memory_seconds
from apilado.core.sources.base import AssetLoader


@dataclass(frozen=True)
class Stretch:
    """The stages of a stretch, with what is rendered around it and thrown away."""

    graph: Graph
    lead_frames: int
    frames: int

    def cut(self, audio: Audio) -> Audio:
        """What of a rendered result is the stretch itself."""
        return audio[..., self.lead_frames : self.lead_frames + self.frames]


def stretch_of(stack: Stack, load: AssetLoader, begins: int, frames: int, *, rate_hz: int | None = None) -> Stretch:
    """The stages that render so many frames of the endless repetition from a frame on, counted from the loop's start.

    Args:
        rate_hz: the stack's own unless told.
    """
    whole: Clock = clock_of(stack, looped=True, rate_hz=rate_hz)
    lead = round(memory_seconds(stack, whole.rate_hz) * whole.rate_hz)
    ahead = round(look_ahead_seconds(stack, whole.rate_hz) * whole.rate_hz)
    clock = whole.stretch(begins - lead, lead + frames + ahead)
    return Stretch(build(stack, clock, load), lead, frames)
