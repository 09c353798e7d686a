"""What a sounding is, and what a rule is."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from apilado.core.document.editing import Edit
from apilado.core.document.stack import LimitOverride
from apilado.core.soundings.measures import Measures

Status = Literal["fine", "look", "fault"]
Ways = Callable[[], Iterable["Edit | None"]]
"""Edits that may mend a finding, the likeliest first; each is tried before it is offered (`remedies.py`)."""
COUNTS = ("voices", "to mend", "layers", "differences")
SEVERITY: dict[Status, int] = {"fault": 0, "look": 1, "fine": 2}


@dataclass(frozen=True)
class Place:
    """What `show` marks in the drawings."""

    layers: tuple[str, ...] = ()
    low_hz: float | None = None
    high_hz: float | None = None
    beats: tuple[float, ...] = ()


@dataclass(frozen=True)
class Offer:
    """An edit that may be heard and made, in a few words."""

    words: str
    edit: Edit


@dataclass(frozen=True)
class Sounding:
    """One measured finding."""

    id: str
    title: str
    status: Status
    value: float | None
    unit: str
    limit: str
    where: str
    sentence: str
    basis: str
    show: Place = Place()
    judged: float | None = None
    """What its limits were held against, where that is not the value itself."""
    ways: Ways | None = field(default=None, compare=False, repr=False)
    offers: tuple[Offer, ...] = field(default=(), compare=False, repr=False)
    """What may be tried one by one, where there is more than one place to mend."""
    burden: float = 0.0
    """How far it is from fine: 0 fine, 1 and up to look at, 3 and up a fault."""

    @property
    def key(self) -> tuple[str, ...]:
        """What names it among the soundings of a stack."""
        return self.id, self.where, *self.show.layers

    @property
    def first_way(self) -> Edit | None:
        """The likeliest way to mend it, untried."""
        return next((way for way in self.ways() if way is not None), None) if self.ways else None

    @property
    def shown_value(self) -> str:
        """The value with its unit, counts without decimals."""
        if self.value is None:
            return ""
        counted = self.unit in COUNTS
        number = f"{self.value:.0f}" if counted or self.unit.startswith("%") else f"{self.value:.1f}"
        unit = self.unit.removesuffix("s") if counted and number == "1" else self.unit
        return f"{number} {unit}".replace("-", "−")

    def place_data(self) -> dict[str, Any]:
        """Where it is, for the drawings."""
        return asdict(self.show)

    def as_data(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "id": self.id,
            "status": self.status,
            "value": None if self.value is None else round(self.value, 3),
            "unit": self.unit,
            "limit": self.limit,
            "where": self.where,
            "sentence": self.sentence,
            "basis": self.basis,
        }


@dataclass(frozen=True)
class Limits:
    """The limits of a rule: beyond `look` it deserves a look, beyond `fault` it is a fault."""

    look: float
    fault: float

    def status(self, value: float) -> Status:
        """Where a value lies that gets worse as it grows."""
        if value > self.fault:
            return "fault"
        return "look" if value > self.look else "fine"

    def burden(self, status: Status, value: float | None) -> float:
        """How far from fine something is: 0 fine, 1 to 2 to look at, 3 and up a fault, by doublings of the excess."""
        if status == "fine":
            return 0.0
        span, past = max(self.fault - self.look, 1e-9), self.fault if status == "fault" else self.look
        excess = 0.5 if value is None else max(0.0, (value - past) / span)
        return 3.0 + math.log2(1.0 + excess) if status == "fault" else 1.0 + min(1.0, excess)

    def overridden(self, override: LimitOverride | None) -> Limits:
        """These limits as a stack changes them."""
        if override is None:
            return self
        return Limits(
            self.look if override.look is None else override.look,
            self.fault if override.fault is None else override.fault,
        )


@dataclass(frozen=True)
class Rule:
    """One question asked of the measurements; `ask` gives no sounding where it does not apply."""

    id: str
    title: str
    unit: str
    limits: Limits
    basis: str
    ask: Callable[[Rule, Limits, Measures], list[Sounding]]

    def sounding(
        self, status: Status, value: float | None, limit: str, where: str, sentence: str, **more: Any
    ) -> Sounding:
        """A sounding of this rule."""
        return Sounding(
            id=self.id,
            title=self.title,
            status=status,
            value=value,
            unit=self.unit,
            limit=limit,
            where=where,
            sentence=sentence,
            basis=self.basis,
            **more,
        )
