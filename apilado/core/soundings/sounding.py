"""What a sounding is, and what a rule is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any, Literal

from apilado.core.document.editing import Edit
from apilado.core.document.stack import LimitOverride
from apilado.core.soundings.measures import Measures

Status = Literal["fine", "look", "fault"]
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
    fix: Edit | None = None

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
            "fix": None if self.fix is None else self.fix.model_dump(mode="json"),
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
