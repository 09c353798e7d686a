"""A ducker: which trigger turns what down, how, and in which bars."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, field_validator

from apilado.core.parameters import choice, number, number_map, numbers, reference, switch, text
from apilado.core.parts import Part
from apilado.core.shapes.keyed_duck import KeyedDuck
from apilado.core.shapes.registry import AnyDuckShape

MOST_DUCKERS = 8
Share = Annotated[float, Field(ge=0.0, le=1.0)]


class Ducker(Part):
    """Turns layers down at the hits of its trigger."""

    name: Annotated[str, text(label="Name", longest=40)] = "Duck"
    on: Annotated[bool, switch(label="On")] = True
    trigger: Annotated[str, reference(among="drums", label="Trigger")] = "kick"
    shape: AnyDuckShape = KeyedDuck()
    reach: Annotated[
        Literal["all", "below", "around"],
        choice(label="Reach", help="The whole layer, or a band of it: the rest is untouched"),
    ] = "all"
    frequency_hz: Annotated[
        float, number(low=40.0, high=8000.0, step=0.1, scale="log", unit="Hz", label="Frequency", help="Of the band")
    ] = 120.0
    width_octaves: Annotated[
        float, number(low=0.5, high=4.0, step=0.1, unit="oct", label="Width", help="Of the band")
    ] = 1.0
    amounts: Annotated[
        dict[str, Share],
        number_map(
            low=0.0, high=1.0, default=1.0, label="Share", moves=True, most=32, help="Of the depth, by layer id"
        ),
    ] = Field(default={})
    silent_bars: Annotated[
        tuple[int, ...],
        numbers(
            low=1, high=64, most=64, step=1, label="Off in bars", help="Bars, counted from 1, whose hits it leaves out"
        ),
    ] = ()

    @field_validator("silent_bars")
    @classmethod
    def _bars(cls, bars: tuple[int, ...]) -> tuple[int, ...]:
        for bar in bars:
            if not 1 <= bar <= 64:
                raise ValueError(f"a bar is counted from 1 to 64, not {bar}")
        return tuple(sorted(set(bars)))

    def amount(self, layer_id: str) -> float:
        """The share of its depth that a layer takes."""
        return self.amounts.get(layer_id, 1.0)

    def band_hz(self) -> tuple[float, float] | None:
        """(low, high) of what it turns down; None if that is everything. A low of 0 is the bottom."""
        if self.reach == "all":
            return None
        if self.reach == "below":
            return 0.0, self.frequency_hz
        half = 2.0 ** (self.width_octaves / 2.0)
        return self.frequency_hz / half, self.frequency_hz * half

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing with the reach chosen."""
        return {"all": ("frequency_hz", "width_octaves"), "below": ("width_octaves",), "around": ()}[self.reach]

    def hits_of(self, hits: tuple[float, ...], beats_per_bar: int) -> tuple[float, ...]:
        """Those of its trigger's hits that it follows."""
        return tuple(hit for hit in hits if int(hit // beats_per_bar) + 1 not in self.silent_bars)
