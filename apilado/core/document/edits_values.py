"""Edits of single values and of the members of lists."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import BaseModel, Field

from apilado.core.document.addresses import (
    find,
    forget,
    get,
    joined,
    list_at,
    owner_of,
    parted,
    parts_of,
    place_of,
    renamed,
    replace,
    with_fresh_ids,
    within,
)
from apilado.core.document.declarations import beginning, kind_of, kinds_at, list_declared, parameter_at
from apilado.core.document.editing import Data, Edit, carry_movements
from apilado.core.document.followers import followers_said
from apilado.core.document.naming import layer_name, place_name, value_text, with_article
from apilado.core.document.section import OF_THE_WHOLE
from apilado.core.document.stack import Stack
from apilado.core.parameters import parameters_of
from apilado.core.parts import new_id
from apilado.core.sources.wave import MOST_HARMONICS, Tone
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
            meant = self.model_copy(update={"value": parameter.parsed(value)})
            self._stands_alone(stack, meant.value)
            return meant
        except ValueError as error:
            raise InvalidEdit(f"{place_name(stack, self.path)} {error}") from None

    def goes_into(self, section: str) -> bool:
        return bool(section) and not within(self.path, "sections") and self.path not in OF_THE_WHOLE

    def _stands_alone(self, stack: Stack, value: Any) -> None:
        """Refuses to put a note or a hit where one is: nothing would tell the two apart any more."""
        was, now = renamed(stack, self.path, value) or ("", "")
        if was != now and find(stack, now) is not None:
            raise ValueError("was not moved: one is there already")

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

    def remark(self, before: Stack, after: Stack) -> str | None:
        kind, layer_id, *rest = (*parts_of(self.path), "", "")
        is_source = kind == "layers" and joined(*rest) in ("source", "source/kind")
        return followers_said(after, layer_id) if is_source else None


class TakeOver(Edit):
    """Puts several values, from another state of the stack, at their addresses at once: none need fit alone."""

    of_the_whole: ClassVar[bool] = True

    op: Literal["take-over"] = "take-over"
    values: dict[str, Any] = Field(min_length=1, max_length=64)
    what: str = Field(default="the whole stack", max_length=80)

    def alter(self, data: Data) -> None:
        for path, value in self.values.items():
            replace(data, path, value)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Take over {self.what}"


class AddPart(Edit):
    """Adds a part at the end of the list at `path`: a step, an EQ point, a tone, a trigger, a ducker, a carve pair."""

    op: Literal["add"] = "add"
    path: str = Field(min_length=1, max_length=200)
    part: Data
    held: bool = False
    """Whether numbers beyond their ranges are held at the end of them: a hand has put it there."""
    after: str = Field(default="", max_length=200)
    """The address of the member behind which it is put; else it comes last."""

    def meant(self, stack: Stack) -> AddPart:
        declared = list_declared(stack, self.path)
        if declared is None:
            raise InvalidEdit(f"there is no list at '{self.path}' to which something could be added")
        model, *others = declared.kinds
        if others:
            model = kind_of(stack, self.path, self.part.get("kind"), declared.noun)
        return self.model_copy(update={"part": held_within(model, self.part)}) if self.held else self

    def alter(self, data: Data) -> None:
        members = list_at(data, self.path)
        addresses = [joined(self.path, str(each.get("id"))) for each in members]
        place = addresses.index(self.after) + 1 if self.after in addresses else len(members)
        members.insert(place, {"id": new_id(), **self.part})

    def title(self, before: Stack, after: Stack) -> str:
        return f"Add {added_name(before, self.path, self.part)}"


def held_within(model: type[BaseModel], part: Data) -> Data:
    """The values of a part, its numbers held within the ranges that its model declares."""
    return {**part, **{p.name: p.held(part[p.name]) for p in parameters_of(model) if p.name in part}}


def added_name(stack: Stack, path: str, part: Data) -> str:
    """How a part that is added to a list is called: 'a bell to kick'."""
    declared = list_declared(stack, path)
    kinds = {model.model_fields["kind"].default: model for model in kinds_at(stack, path)}
    label = getattr(kinds.get(part.get("kind")), "label", declared.noun if declared else "part")
    what = label if label.isupper() else label[:1].lower() + label[1:]
    holder = owner_of(path) if parted(path)[0] else ""
    return with_article(what) + (f" to {place_name(stack, holder)}" if holder else "")


class RemovePart(Edit):
    """Removes the member of a list at `path`, such as `layers/mid/path/k3f9xq2a`, and what points at it."""

    op: Literal["remove"] = "remove"
    path: str = Field(min_length=1, max_length=200)

    def meant(self, stack: Stack) -> RemovePart:
        _listed_part(stack, self.path, "removed")
        return self

    def goes_into(self, section: str) -> bool:
        return bool(section) and not within(self.path, "sections")

    def alter(self, data: Data) -> None:
        members, index = place_of(data, self.path)
        del members[index]
        forget(data, self.path)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Remove {place_name(before, self.path)}"

    def remark(self, before: Stack, after: Stack) -> str | None:
        gone = len(before.pairs) - len(after.pairs)
        if not gone or within(self.path, "pairs"):
            return None
        return "Its carve pair went with it." if gone == 1 else f"Its {gone} carve pairs went with it."


class MovePart(Edit):
    """Moves the member of a list to another place in it."""

    op: Literal["move"] = "move"
    path: str = Field(min_length=1, max_length=200)
    to: int = Field(ge=0)

    def meant(self, stack: Stack) -> MovePart:
        _listed_part(stack, self.path, "moved")
        return self

    def alter(self, data: Data) -> None:
        members, index = place_of(data, self.path)
        part = members.pop(index)
        members.insert(min(self.to, len(members)), part)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Move {place_name(before, self.path)}"


class CopyPart(Edit):
    """Copies the member of a list at `path` to a list: behind itself where that is its own, else to the end.

    What moves something of it, or is otherwise in sections, is so of the copy too, if asked.
    """

    op: Literal["copy-part"] = "copy-part"
    path: str = Field(min_length=1, max_length=200)
    to: str = Field(min_length=1, max_length=200)
    movements: bool = True
    """Whether what moves it moves the copy."""

    def meant(self, stack: Stack) -> CopyPart:
        _listed_part(stack, self.path, "copied")
        part, declared = get(stack, self.path), list_declared(stack, self.to)
        if declared is None or not isinstance(part, declared.kinds):
            raise InvalidEdit(f"{place_name(stack, self.path)} cannot be copied to '{self.to}'")
        return self

    def alter(self, data: Data) -> None:
        members, index = place_of(data, self.path)
        there, given = list_at(data, self.to), dict[str, str]()
        copied = with_fresh_ids(members[index], given)
        there.insert(index + 1 if there is members else len(there), copied)
        if self.movements:
            carry_movements(data, self.path, joined(self.to, copied["id"]), given)

    def title(self, before: Stack, after: Stack) -> str:
        to = owner_of(self.to)
        where = f" to {before.owner_name(to)}" if to != owner_of(self.path) else ""
        return f"Copy {place_name(before, self.path)}{where}"


class CopyChain(Edit):
    """Copies all steps of a chain behind those of another one, but for the split.

    What moves something of them, or is otherwise in sections, is so of the copies too, if asked.
    """

    op: Literal["copy-chain"] = "copy-chain"
    path: str = Field(min_length=1, max_length=200)
    """The address of the list of steps."""
    to: str = Field(min_length=1, max_length=200)
    movements: bool = True

    def meant(self, stack: Stack) -> CopyChain:
        here, there = (list_declared(stack, path) for path in (self.path, self.to))
        if here is None or there is None or here.noun != "step" or there.noun != "step" or self.path == self.to:
            raise InvalidEdit(f"the chain at '{self.path}' cannot be copied to '{self.to}'")
        left_out = [s for s in get(stack, self.path) if s.kind != "split" and not isinstance(s, there.kinds)]
        if left_out:
            raise InvalidEdit(f"{left_out[0].label.lower()} cannot stand in a chain of a container")
        return self

    def alter(self, data: Data) -> None:
        there = list_at(data, self.to)
        for step in [each for each in list_at(data, self.path) if each["kind"] != "split"]:
            given = dict[str, str]()
            copied = with_fresh_ids(step, given)
            there.append(copied)
            if self.movements:
                carry_movements(data, joined(self.path, step["id"]), joined(self.to, copied["id"]), given)

    def title(self, before: Stack, after: Stack) -> str:
        from_, to = (place_name(before, parted(path)[0]) for path in (self.path, self.to))
        return f"Copy the chain of {from_} to {to}"


def _listed_part(stack: Stack, path: str, done: str) -> None:
    """
    Raises:
        InvalidEdit: what is at an address is no part of a list that parts are added to.
    """
    if list_declared(stack, parted(path)[0]) is None:
        raise InvalidEdit(f"there is nothing at '{path}' that could be {done}")


HARMONIC = next(parameter for parameter in parameters_of(Tone) if parameter.name == "harmonics").each()


class SetHarmonic(Edit):
    """Sets the amplitude of one harmonic of the tone at `path`, or of a cycle of its table, held within its range; null
    gives it back to the tone's shape, and takes it out of a cycle."""

    op: Literal["harmonic"] = "harmonic"
    path: str = Field(pattern=r"^layers/[a-z0-9-]+/source/tones/[a-z0-9-]+(/table/[a-z0-9-]+)?$")
    number: int = Field(ge=1, le=MOST_HARMONICS)
    amplitude: float | None

    def alter(self, data: Data) -> None:
        holder = get(data, self.path)
        nothing = 0.0 if "/table/" in self.path else None
        levels = list(holder["harmonics"])
        levels += [nothing] * (self.number - len(levels))
        levels[self.number - 1] = nothing if self.amplitude is None else HARMONIC.held(self.amplitude)
        while levels and levels[-1] == nothing:
            levels.pop()
        holder["harmonics"] = levels

    def title(self, before: Stack, after: Stack) -> str:
        return f"Harmonic {self.number} of {place_name(after, self.path)}"


class SetLimit(Edit):
    """Changes the limits of a sounding for this stack, with a note of why; without limits it is as it was."""

    of_the_whole: ClassVar[bool] = True

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
