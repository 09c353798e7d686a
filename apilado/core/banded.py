"""What is cut in bands by crossovers of its own: a container with a chain in each band, dynamics band by band."""

from __future__ import annotations

import math
from collections.abc import Callable
from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, model_validator

from apilado.core.dsp.crossovers import (
    CLOSEST_BORDERS,
    HIGHEST_BORDER_HZ,
    LOWEST_BORDER_HZ,
    Border,
    Cut,
    border,
    cut,
    in_a_row,
)
from apilado.core.dsp.crossovers import Part as Filters
from apilado.core.parameters import Model, choice, number
from apilado.core.parts import Part, new_id
from apilado.core.units import short_hz

LEAST_BANDS, MOST_BANDS = 2, 4
LOWEST_HEARD_HZ, HIGHEST_HEARD_HZ = 20.0, 20000.0


class Band(Part):
    """A band, from a frequency up to where the next one begins."""

    label: ClassVar[str] = "Band"

    from_hz: Annotated[
        float,
        number(low=LOWEST_BORDER_HZ, high=HIGHEST_BORDER_HZ, step=0.1, scale="log", unit="Hz", label="From"),
    ] = LOWEST_BORDER_HZ


class Banded(Model):
    """Two to four bands, whose sum is flat where nothing is done to them. Subclasses declare `bands`."""

    slope_db_per_octave: Annotated[Literal[12, 24, 48], choice(label="Slope", unit="dB/oct")] = 24
    phase: Annotated[
        Literal["minimum-phase", "linear-phase"],
        choice(
            label="Phase",
            help="Linear phase leaves the sound plumb and rings a little before; minimum phase turns phases",
        ),
    ] = "linear-phase"

    def in_bands(self) -> tuple[Band, ...]:
        """Its bands, the lowest first."""
        raise NotImplementedError

    @model_validator(mode="after")
    def _ascending(self) -> Banded:
        for lower, upper in pairwise(band.from_hz for band in self.in_bands()[1:]):
            if upper < lower * CLOSEST_BORDERS * (1.0 - 1e-9):
                raise ValueError(
                    f"bands: {upper:g} Hz must lie at least a third of an octave above {lower:g} Hz, where the band "
                    "below begins"
                )
        return self

    def borders(self, rate_hz: int) -> tuple[Border, ...]:
        """The filters between its bands."""
        given: dict[str, Any] = {"kind": self.phase}
        return tuple(border(b.from_hz, self.slope_db_per_octave, rate_hz, **given) for b in self.in_bands()[1:])

    def cut(self, number: int, rate_hz: int) -> Cut:
        """What one of its bands, counted from 0, keeps of a sound."""
        return cut(self.borders(rate_hz), number, number)

    def rings_seconds(self, rate_hz: int, of: Callable[[Filters], float] = Filters.rings_frames) -> float:
        """For how long its filters ring, or are heard."""
        pieces = [self.cut(number, rate_hz) for number in range(len(self.in_bands()))]
        rows = [in_a_row([piece.common, path]) for piece in pieces for _, path in piece.paths]
        return max(of(row) for row in rows) / rate_hz

    def unused_in(self, member: BaseModel) -> tuple[str, ...]:
        """The lowest band begins at the bottom."""
        return ("from_hz",) if member is self.in_bands()[0] else ()

    def words_of(self, member: Model) -> str:
        """A band by the frequencies between which it lies, and what it says of itself."""
        bands = self.in_bands()
        if not isinstance(member, Band) or member not in bands:
            return super().words_of(member)
        low, high = self.span_hz(bands.index(member))
        said = short_hz(low) if low > LOWEST_HEARD_HZ else ""
        ends = f"{said}–{short_hz(high)}" if said and high < HIGHEST_HEARD_HZ else ""
        where = ends or (f"from {said}" if said else f"up to {short_hz(high)}")
        return ", ".join(each for each in (where, member.in_words()) if each)

    def span_hz(self, number: int) -> tuple[float, float]:
        """Between which frequencies a band lies."""
        bands = self.in_bands()
        low = bands[number].from_hz if number else LOWEST_HEARD_HZ
        return low, bands[number + 1].from_hz if number + 1 < len(bands) else HIGHEST_HEARD_HZ

    def next_part(self, listed: str) -> tuple[dict[str, Any], str]:
        """One more band: the upper half of the widest."""
        if listed != "bands":
            return super().next_part(listed)
        bands = self.in_bands()
        spans = [self.span_hz(number) for number in range(len(bands))]
        widest = max(range(len(bands)), key=lambda number: spans[number][1] / spans[number][0])
        low, high = spans[widest]
        middle = min(max(math.sqrt(low * high), LOWEST_BORDER_HZ), HIGHEST_BORDER_HZ)
        return {"from_hz": float(f"{middle:.2g}")}, bands[widest].id


def begun(kind: type[Any], *from_hz: float) -> tuple[Any, ...]:
    """Bands of a kind that begin at some frequencies, above one that begins at the bottom."""
    return tuple(kind(id=new_id(), from_hz=hertz) for hertz in (LOWEST_BORDER_HZ, *from_hz))
