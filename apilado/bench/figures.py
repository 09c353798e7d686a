"""What the bench measures: figures with their goals, in parts that are measured one after another."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass


@dataclass(frozen=True)
class Figure:
    """One measured number."""

    part: str
    name: str
    value: float
    goal: float | None = None
    unit: str = ""
    """Nothing for ratios within one run, which alone may be compared from machine to machine."""
    at_least: bool = False
    """Whether the goal is the least; else it is the most."""

    @property
    def met(self) -> bool | None:
        """Whether its goal is met; None where it has none."""
        if self.goal is None:
            return None
        return self.value >= self.goal if self.at_least else self.value <= self.goal

    def in_words(self) -> str:
        digits = 0 if self.unit in ("ms", "MiB") else 2
        said = f"  {self.name:<52} {self.value:9.{digits}f} {self.unit:<7}"
        if self.goal is None:
            return said.rstrip()
        bound = "at least" if self.at_least else "at most"
        return f"{said} goal {bound} {self.goal:.{digits}f}{'' if self.met else '   not met'}"

    def as_data(self) -> dict[str, object]:
        """For a machine to read."""
        return {**asdict(self), "met": self.met}


@dataclass(frozen=True)
class Part:
    """Figures that are measured together."""

    title: str
    measure: Callable[[str], Iterator[Figure]]
    """Is given its title."""
