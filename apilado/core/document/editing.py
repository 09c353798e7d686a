"""What every edit is, and what edits use to find their place in a parsed document."""

from __future__ import annotations

import math
from typing import Any, ClassVar, cast

from apilado.core.document.addresses import carried, find, get, place_of, reaches, within
from apilado.core.document.layer import TINTS
from apilado.core.document.stack import Stack
from apilado.core.dsp.crossovers import CLOSEST_BORDERS
from apilado.core.parameters import Model
from apilado.core.parts import new_id
from apilado.errors import InvalidEdit

Data = dict[str, Any]


class Edit(Model):
    """One change. Subclasses alter the parsed document in place and say in a few words what they do."""

    of_the_whole: ClassVar[bool] = False
    """Whether it is made in the whole piece, also where a section is chosen: sections themselves are."""

    def goes_into(self, section: str) -> bool:
        """Whether it is made in a section where that is chosen."""
        return bool(section) and not self.of_the_whole

    def meant(self, stack: Stack) -> Edit:
        """The edit with its values as the declarations of the stack read them.

        Raises:
            InvalidEdit: a value is none that its place takes.
        """
        return self

    def alter(self, data: Data) -> None:
        """Changes `data`, the document as plain values."""
        raise NotImplementedError

    def title(self, before: Stack, after: Stack) -> str:
        """What it did, for undo and for messages."""
        raise NotImplementedError

    def remark(self, before: Stack, after: Stack) -> str | None:
        """What is to be told where it did not do all that it was asked to."""
        return None


def fresh_name(name: str, layers: list[Data]) -> str:
    """A name that no layer has yet: with a number behind it if need be."""
    taken = {layer["name"] for layer in layers}
    numbered = (f"{name[:36]} {number}" for number in range(2, 10_000))
    return next(each for each in (name[:40], *numbered) if each not in taken)


def border_near(data: Data, frequency_hz: float) -> int | None:
    """The crossover that lies too near to a frequency for another one there, the nearest if there are two."""
    apart = [abs(math.log2(each["frequency_hz"] / frequency_hz)) for each in data["crossovers"]]
    nearest = min(range(len(apart)), key=apart.__getitem__, default=None)
    return None if nearest is None or apart[nearest] >= math.log2(CLOSEST_BORDERS) * (1.0 - 1e-9) else nearest


def next_tint(layers: list[Data]) -> str:
    """A tint that no layer has yet, or the one that has not been used for longest."""
    used = {layer["tint"] for layer in layers}
    return next((tint for tint in TINTS if tint not in used), TINTS[len(layers) % len(TINTS)])


def carry_over(data: Data, from_id: str, to_id: str) -> None:
    """Gives a layer the shares of the duckers that another one has, and what moves them."""
    for ducker in data["duckers"]:
        if from_id in ducker["amounts"]:
            ducker["amounts"][to_id] = ducker["amounts"][from_id]
        of_one, of_other = (f"duckers/{ducker['id']}/amounts/{each}" for each in (from_id, to_id))
        for movement in data["movements"]:
            for target in [target for target in movement["targets"] if target["path"] == of_one]:
                movement["targets"].append({**target, "id": new_id(), "path": of_other})


def carry_movements(data: Data, holder: str, copied: str, given: dict[str, str]) -> None:
    """Has the movements that move something of a part move the same of its copy, whose parts have been given ids, and
    sections have of the copy otherwise what they have of the part."""
    part = get(data, holder)
    for section in data["sections"]:
        for change in [change for change in section["changes"] if within(change["path"], holder)]:
            section["changes"].append(
                {**change, "id": new_id(), "path": carried(change["path"], holder, copied, given, part)}
            )
    for movement in data["movements"]:
        for target in [target for target in movement["targets"] if within(target["path"], holder)]:
            path = carried(target["path"], holder, copied, given, part)
            if reaches(data, path):
                movement["targets"].append({**target, "id": new_id(), "path": path})


def let_go(before: Stack, data: Data) -> None:
    """Takes what has gone out of the movements that moved it and the sections that changed it; a movement that is left
    with nothing goes too."""
    for section in before.sections:
        now = find(data, f"sections/{section.id}")
        lost = [change.id for change in section.changes if not reaches(data, change.path)]
        if lost and now is not None:
            now["changes"] = [each for each in now["changes"] if each.get("id") not in lost]
    for movement in before.movements:
        now = find(data, f"movements/{movement.id}")
        gone = [target.id for target in movement.targets if not reaches(data, target.path)]
        if gone and now is not None:
            now["targets"] = [each for each in now["targets"] if each.get("id") not in gone]
            if not now["targets"]:  # it would move nothing, and be seen nowhere
                data["movements"].remove(now)


def check_kind(part: Data, registry: tuple[Any, ...], what: str) -> None:
    kinds = [model.model_fields["kind"].default for model in registry]
    if part.get("kind") not in kinds:
        article = "an" if what[0] in "AEIOUaeiou" else "a"
        raise InvalidEdit(f"{article} {what} is one of {', '.join(kinds)}, not '{part.get('kind')}'")


def layer_at(data: Data, layer_id: str) -> tuple[list[Data], int]:
    """(the layers, the place of the one with an id).

    Raises:
        InvalidEdit: it is not there.
    """
    return place_of(data, f"layers/{layer_id}")


def drum_of(data: Data, name: str) -> Data:
    """The kick, or the trigger of that id."""
    return cast(Data, get(data, "kick" if name == "kick" else f"triggers/{name}"))
