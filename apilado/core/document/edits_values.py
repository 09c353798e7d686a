"""Edits of single values and of the members of lists."""

from __future__ import annotations

from types import MappingProxyType
from typing import Any, Literal

from pydantic import Field

from apilado.core.document.addresses import (
    forget,
    get,
    joined,
    list_at,
    parted,
    parts_of,
    place_of,
    replace,
    with_fresh_ids,
)
from apilado.core.document.declarations import beginning, kind_of, kinds_at, parameter_at
from apilado.core.document.editing import Data, Edit
from apilado.core.document.equaliser import MOST_POINTS
from apilado.core.document.followers import followers_said
from apilado.core.document.naming import layer_name, place_name, value_text
from apilado.core.document.stack import Stack
from apilado.core.parameters import parameters_of
from apilado.core.parts import new_id
from apilado.core.sources.tone import MOST_HARMONICS, Tone
from apilado.errors import InvalidEdit


class SetValue(Edit):
    """Sets the value at an address such as `layers/mid/level_db`.

    A text is read as the field of that value shows it: '−3.5', 'C2', 'on', '1, 2.5'. Where a part is told its `kind`,
    one of that kind begins in its place.
    """

    op: Literal["set"] = "set"
    path: str = Field(min_length=1, max_length=200)
    value: Any
    held: bool = False
    """Whether a number beyond its range is held at the end of it: a hand has pulled it there."""

    def meant(self, stack: Stack) -> SetValue:
        holder, last = parted(self.path)
        if last == "kind" and kinds_at(stack, holder):
            return SetValue(path=holder, value=beginning(stack, holder, self.value))
        parameter = parameter_at(stack, self.path)
        if parameter is None:
            return self
        try:
            value = parameter.held(self.value) if self.held else self.value
            return self.model_copy(update={"value": parameter.parsed(value)})
        except ValueError as error:
            raise InvalidEdit(f"{place_name(stack, self.path)} {error}") from None

    def alter(self, data: Data) -> None:
        replace(data, self.path, self.value)

    def title(self, before: Stack, after: Stack) -> str:
        holder, last = parted(self.path)
        if last == "kind" and kinds_at(before, holder):
            said = place_name(before, holder)
            return f"{said[:1].upper()}{said[1:]}: {str(self.value).replace('-', ' ')}"
        now = self.meant(before).value
        if last == "mute":
            return f"{'Mute' if now else 'Unmute'} {place_name(after, holder)}"
        said = place_name(before, self.path)
        value = value_text(parameter_at(before, self.path), now)
        return f"{said[:1].upper()}{said[1:]}" + (f": {value}" if value else "")

    def remark(self, after: Stack) -> str | None:
        kind, layer_id, *rest = (*parts_of(self.path), "", "")
        is_source = kind == "layers" and joined(*rest) in ("source", "source/kind")
        return followers_said(after, layer_id) if is_source else None


KINDS_OF = MappingProxyType({"eq": "EQ point", "treatments": "treatment"})
"""What a member of a list of several kinds is called."""


class AddPart(Edit):
    """Adds a treatment, an EQ point, a tone, a trigger, a ducker or a carve pair at the end of the list at `path`."""

    op: Literal["add"] = "add"
    path: str = Field(pattern=r"(^|/)(eq|treatments|tones|triggers|duckers|pairs)$")
    part: Data
    held: bool = False
    """Whether numbers beyond their ranges are held at the end of them: a hand has put it there."""

    def meant(self, stack: Stack) -> AddPart:
        if not kinds_at(stack, self.path):
            return self
        model = kind_of(stack, self.path, self.part.get("kind"), KINDS_OF[parted(self.path)[1]])
        if not self.held:
            return self
        held = {p.name: p.held(self.part[p.name]) for p in parameters_of(model) if p.name in self.part}
        return self.model_copy(update={"part": {**self.part, **held}})

    def alter(self, data: Data) -> None:
        list_at(data, self.path).append({"id": new_id(), **self.part})

    def title(self, before: Stack, after: Stack) -> str:
        place, last = parted(self.path)
        named = {"pairs": "a carve pair", "duckers": "a duck", "triggers": "a trigger", "tones": "a tone"}
        what = named.get(last) or str(self.part.get("kind", "a part")).replace("-", " ")
        article = "" if what.startswith("a ") else "an " if what[0] in "aeiou" else "a "
        return f"Add {article}{what}" + (f" to {place_name(after, place)}" if place else "")


class RemovePart(Edit):
    """Removes the member of a list at `path`, such as `layers/mid/eq/k3f9xq2a`, and what points at it."""

    op: Literal["remove"] = "remove"
    path: str = Field(pattern=r"(^|/)(eq|treatments|tones|triggers|duckers|pairs)/[a-z0-9-]+$")

    def alter(self, data: Data) -> None:
        members, index = place_of(data, self.path)
        del members[index]
        forget(data, self.path)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Remove {place_name(before, self.path)}"


class MovePart(Edit):
    """Moves a treatment or an EQ point to another place in its chain."""

    op: Literal["move"] = "move"
    path: str = Field(pattern=r"(^|/)(eq|treatments|tones)/[a-z0-9-]+$")
    to: int = Field(ge=0)

    def alter(self, data: Data) -> None:
        members, index = place_of(data, self.path)
        part = members.pop(index)
        members.insert(min(self.to, len(members)), part)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Move {place_name(before, self.path)}"


HARMONIC = next(parameter for parameter in parameters_of(Tone) if parameter.name == "harmonics").each()


class SetHarmonic(Edit):
    """Sets the amplitude of one harmonic of the tone at `path`, held within its range; null gives it back to the tone's
    shape."""

    op: Literal["harmonic"] = "harmonic"
    path: str = Field(pattern=r"^layers/[a-z0-9-]+/source/tones/[a-z0-9-]+$")
    number: int = Field(ge=1, le=MOST_HARMONICS)
    amplitude: float | None

    def alter(self, data: Data) -> None:
        tone = get(data, self.path)
        levels = list(tone["harmonics"])
        levels += [None] * (self.number - len(levels))
        levels[self.number - 1] = None if self.amplitude is None else HARMONIC.held(self.amplitude)
        while levels and levels[-1] is None:
            levels.pop()
        tone["harmonics"] = levels

    def title(self, before: Stack, after: Stack) -> str:
        return f"Harmonic {self.number} of {place_name(after, self.path)}"


class SetLimit(Edit):
    """Changes the limits of a sounding for this stack, with a note of why; without limits it is as it was."""

    op: Literal["limit"] = "limit"
    sounding: str = Field(pattern=r"^[a-z-]{1,40}$")
    look: float | None = None
    fault: float | None = None
    reason: str = Field(default="", max_length=200)

    def alter(self, data: Data) -> None:
        if self.look is None and self.fault is None:
            data["limits"].pop(self.sounding, None)
            return
        if not self.reason.strip():
            raise InvalidEdit("a changed limit needs a note of why")
        data["limits"][self.sounding] = {"look": self.look, "fault": self.fault, "reason": self.reason.strip()}

    def title(self, before: Stack, after: Stack) -> str:
        return f"Limits of {self.sounding}"


class CopyPoint(Edit):
    """Copies the EQ point at `path` to the EQ of another part."""

    op: Literal["copy-point"] = "copy-point"
    path: str = Field(pattern=r"^[a-z0-9/-]+/eq/[a-z0-9-]+$")
    to: str = Field(pattern=r"^(bus|shared|kick|layers/[a-z0-9-]+|triggers/[a-z0-9-]+)$")

    def alter(self, data: Data) -> None:
        point, target = with_fresh_ids(get(data, self.path)), list_at(data, f"{self.to}/eq")
        if len(target) >= MOST_POINTS:
            raise InvalidEdit(f"'{self.to}' has {MOST_POINTS} points already, the most there can be")
        target.append(point)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Copy {place_name(before, self.path)} to {after.owner_name(self.to)}"


class SetShare(Edit):
    """Sets how much of a ducker's depth a layer takes."""

    op: Literal["share"] = "share"
    ducker: str
    layer: str
    amount: float = Field(ge=0.0, le=1.0)

    def alter(self, data: Data) -> None:
        get(data, f"layers/{self.layer}")
        get(data, f"duckers/{self.ducker}")["amounts"][self.layer] = self.amount

    def title(self, before: Stack, after: Stack) -> str:
        return f"Share of {layer_name(self.layer, after)} in {place_name(after, f'duckers/{self.ducker}')}"
