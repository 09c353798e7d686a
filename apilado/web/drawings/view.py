"""What a page shows of a stack, and how large: the frequency axis and the time axis that its panels share."""

from __future__ import annotations

import itertools
import math
from typing import Annotated, Literal

from pydantic import Field

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.render.audition import WHOLE, Audition

LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0
GRID_HZ = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000)
LEVEL_LOW_DB, LEVEL_HIGH_DB = -78.0, -6.0
GAIN_SPAN_DB, GAIN_SHARE = 24.0, 0.46
"""An EQ gain of GAIN_SPAN_DB lies GAIN_SHARE of the Profile's width off its middle."""
HARMONIC_LOW_DB, HARMONIC_HIGH_DB = -60.0, 6.0


class View(Audition):
    """Sizes in pixels, the selection, the stretch of time that is shown, and what is heard alone."""

    height: float = Field(default=430.0, ge=50.0, le=4000.0)
    pile: float = Field(default=200.0, ge=20.0, le=4000.0)
    profile: float = Field(default=250.0, ge=20.0, le=4000.0)
    passage: float = Field(default=500.0, ge=20.0, le=8000.0)
    strip: float = Field(default=150.0, ge=20.0, le=4000.0)
    selected: str = Field(default="piece", max_length=60)
    mode: Literal["eq", "harmonics", "split", "curve"] = "eq"
    eq: str = Field(default="", max_length=120, description="Address of the EQ to be pulled, where a part has several")
    lanes: dict[str, Annotated[float, Field(gt=0.0, le=100.0)]] = Field(
        default={},
        max_length=64,
        description="How high each lane of the Time strip is pulled, by its name",
    )
    hit: bool = Field(default=False, description="Whether the Passage shows one hit, in three rows")
    open: str = Field(default="", max_length=200, description="Address of the step of the path that is open")
    wave: str = Field(default="", max_length=200, description="Address of the wave whose harmonics are pulled")
    section: str = Field(default="", max_length=40, description="Id of the section that changes are made in")
    heard_from: float | None = Field(default=None, ge=0.0, description="First beat of the bars that alone are heard")
    heard_to: float | None = Field(default=None, ge=0.0, description="The beat behind their last")
    first_beat: float = Field(default=0.0, ge=0.0)
    last_beat: float | None = Field(default=None, gt=0.0)

    def y(self, frequency_hz: float) -> float:
        """Pixels from the top for a frequency; low at the bottom."""
        share = math.log(max(frequency_hz, 1.0) / LOWEST_HZ) / math.log(HIGHEST_HZ / LOWEST_HZ)
        return self.height * (1.0 - share)

    def beats(self, stack: Stack) -> tuple[float, float]:
        """The stretch of time shown, in beats."""
        last = min(self.last_beat or stack.beats, stack.beats)
        first = min(self.first_beat, last - 0.05)
        return max(0.0, first), last

    def x(self, beat: float, stack: Stack) -> float:
        """Pixels from the left of Passage and Time strip for a beat."""
        first, last = self.beats(stack)
        return (beat - first) / (last - first) * self.passage

    def level_x(self, level_db: float) -> float:
        """Pixels from the left of the Profile for a level."""
        share = (level_db - LEVEL_LOW_DB) / (LEVEL_HIGH_DB - LEVEL_LOW_DB)
        return min(max(share, 0.0), 1.0) * self.profile

    def gain_x(self, gain_db: float) -> float:
        """Pixels from the left of the Profile for an EQ gain: nothing in the middle."""
        return self.profile * (0.5 + GAIN_SHARE * max(-1.0, min(1.0, gain_db / GAIN_SPAN_DB)))

    def harmonic_x(self, level_db: float) -> float:
        """Pixels from the left of the Profile for a harmonic's level."""
        share = (level_db - HARMONIC_LOW_DB) / (HARMONIC_HIGH_DB - HARMONIC_LOW_DB)
        return min(max(share, 0.0), 1.0) * self.profile

    def selected_layer(self, stack: Stack) -> Layer | None:
        """The layer that is selected, if one is."""
        kind, _, name = self.selected.partition(":")
        return stack.layer(name) if kind == "layer" else None


def band_edges_hz(stack: Stack, layer: Layer) -> tuple[float, float]:
    """The lowest and highest frequency that a layer owns."""
    borders = [crossover.frequency_hz for crossover in stack.crossovers]
    edges = [LOWEST_HZ, *borders, HIGHEST_HZ]
    return edges[layer.span.first], edges[layer.span.last + 1]


def band_names(stack: Stack) -> list[str]:
    """The bands as ranges of frequency."""
    edges = ["20", *[f"{c.frequency_hz:.0f}" for c in stack.crossovers], "20k"]
    return [f"{low}–{high} Hz" for low, high in itertools.pairwise(edges)]


def layer_state(stack: Stack, layer: Layer, audition: Audition = WHOLE) -> str:
    """How a layer is drawn everywhere: heard, muted (an empty outline), or faded while others are heard alone."""
    if layer in audition.layers(stack):
        return "is-heard"
    return "is-muted" if layer.mute else "is-faded"
