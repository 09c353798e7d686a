"""Edits of carving: EQ points and carve pairs for a part that may have no EQ yet."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from apilado.core.document.addresses import find, get, joined, list_at, owner_of, parted, with_fresh_ids
from apilado.core.document.declarations import kind_of
from apilado.core.document.editing import Data, Edit
from apilado.core.document.edits_values import held_within
from apilado.core.document.equaliser import MOST_POINTS
from apilado.core.document.naming import place_name, with_article
from apilado.core.document.stack import Stack
from apilado.core.parts import new_id
from apilado.errors import InvalidEdit

OWNER_PATTERN = r"^(bus|space|shared|kick|layers/[a-z0-9-]+|triggers/[a-z0-9-]+)(/[a-z0-9/-]+)?$"
"""A layer, bus or drum, or one of its EQs."""


def eq_in(data: Data, to: str) -> str:
    """The address of an EQ: the one that is meant, or the one that stands last on the path of a layer or bus; where
    none does, one is put at the end.

    Raises:
        InvalidEdit: there is no such part.
    """
    meant = get(data, to)
    if "points" in meant:
        return to
    if "eq" in meant:
        return joined(to, "eq")
    path = list_at(data, joined(to, "path"))
    if not any(step["kind"] == "eq" for step in path):
        path.append({"id": new_id(), "kind": "eq"})
    last = [step for step in path if step["kind"] == "eq"][-1]
    return joined(to, "path", last["id"])


class AddPoint(Edit):
    """Adds a point to an EQ, or to the EQ of a part that stands last; where there is none, with an EQ for it."""

    op: Literal["add-point"] = "add-point"
    to: str = Field(pattern=OWNER_PATTERN, max_length=120)
    point: Data
    held: bool = False
    """Whether numbers beyond their ranges are held at the end of them: a hand has put it there."""

    def meant(self, stack: Stack) -> AddPoint:
        model = kind_of(stack, "kick/eq/points", self.point.get("kind"), "EQ point")
        return self.model_copy(update={"point": held_within(model, self.point)}) if self.held else self

    def alter(self, data: Data) -> None:
        points = get(data, eq_in(data, self.to)).setdefault("points", [])
        if len(points) >= MOST_POINTS:
            raise InvalidEdit(f"this EQ has {MOST_POINTS} points already, the most there can be")
        points.append({"id": new_id(), **self.point})

    def title(self, before: Stack, after: Stack) -> str:
        what = with_article(str(self.point["kind"]).replace("-", " "))
        hertz, gain = self.point.get("frequency_hz"), self.point.get("gain_db")
        at = f" at {hertz:.0f} Hz" if isinstance(hertz, int | float) else ""
        by = f", {gain:+.1f} dB".replace("-", "−") if isinstance(gain, int | float) and gain else ""
        return f"Add {what}{at}{by} to {place_name(before, owner_of(self.to))}"


class AddPair(Edit):
    """Adds a carve pair between two EQs, or between the EQs of two parts that stand last; with EQs where there are
    none."""

    op: Literal["add-pair"] = "add-pair"
    dip: str = Field(pattern=OWNER_PATTERN, max_length=120)
    lift: str = Field(pattern=OWNER_PATTERN, max_length=120)
    values: Data = Field(default={}, description="Those of the pair, but for its ends")

    def alter(self, data: Data) -> None:
        ends = {"dip": eq_in(data, self.dip), "lift": eq_in(data, self.lift)}
        data["pairs"].append({"id": new_id(), **self.values, **ends})

    def title(self, before: Stack, after: Stack) -> str:
        return f"Add a carve pair: {before.owner_name(self.dip)} gives, {before.owner_name(self.lift)} takes"


class CopyPoint(Edit):
    """Copies the EQ point at `path` to an EQ, or to the EQ of another part that stands last."""

    op: Literal["copy-point"] = "copy-point"
    path: str = Field(min_length=1, max_length=200)
    to: str = Field(pattern=OWNER_PATTERN, max_length=120)

    def meant(self, stack: Stack) -> CopyPoint:
        if parted(parted(self.path)[0])[0] not in stack.equalisers() or find(stack, self.path) is None:
            raise InvalidEdit(f"there is no EQ point at '{self.path}' any more")
        return self

    def alter(self, data: Data) -> None:
        AddPoint(to=self.to, point=with_fresh_ids(get(data, self.path))).alter(data)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Copy {place_name(before, self.path)} to {after.owner_name(self.to)}"
