"""What every edit is, and what edits use to find their place in a parsed document."""

from __future__ import annotations

import math
import re
from typing import Any, cast

from apilado.core.document.layer import TINTS
from apilado.core.document.stack import CLOSEST_BORDERS, Stack
from apilado.core.parameters import Model
from apilado.errors import InvalidEdit

Data = dict[str, Any]
LOWEST_BORDER_HZ, HIGHEST_BORDER_HZ = 30.0, 16000.0
NOT_AN_ID = frozenset(("kick", "bus", "shared", "new", "reference"))
PLACE = re.compile(r"[0-9]{1,6}")
"""A place in a list, in plain digits."""


class Edit(Model):
    """One change. Subclasses alter the parsed document in place and say in a few words what they do."""

    def alter(self, data: Data) -> None:
        """Changes `data`, the document as plain values."""
        raise NotImplementedError

    def title(self, before: Stack, after: Stack) -> str:
        """What it did, for undo and for messages."""
        raise NotImplementedError

    def remark(self, after: Stack) -> str | None:
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


def fresh_id(name: str, taken: set[str]) -> str:
    """An id made from a name that is not taken yet, nor what another part of a stack is called."""
    base = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:32] or "layer"
    taken = taken | NOT_AN_ID
    if base not in taken:
        return base
    return next(f"{base}-{n}" for n in range(2, 10_000) if f"{base}-{n}" not in taken)


def carry_over(data: Data, from_id: str, to_id: str) -> None:
    """Gives a layer the shares of the duckers that another one has."""
    for ducker in data["duckers"]:
        if from_id in ducker["amounts"]:
            ducker["amounts"][to_id] = ducker["amounts"][from_id]


def forget_layer(data: Data, layer_id: str) -> None:
    """Takes out what duckers and carve pairs say about a layer that goes."""
    for ducker in data["duckers"]:
        ducker["amounts"].pop(layer_id, None)
    owner = f"layers/{layer_id}"
    data["pairs"] = [pair for pair in data["pairs"] if owner not in (pair["dip"], pair["lift"])]


def check_index(members: list[Any], index: int, what: str) -> None:
    if index >= len(members):
        raise InvalidEdit(f"there is no {what} {index} any more; there are {len(members)}")


def check_kind(part: Data, registry: tuple[Any, ...], what: str) -> None:
    kinds = [model.model_fields["kind"].default for model in registry]
    if part.get("kind") not in kinds:
        article = "an" if what[0] in "AEIOUaeiou" else "a"
        raise InvalidEdit(f"{article} {what} is one of {', '.join(kinds)}, not '{part.get('kind')}'")


def index_of(members: list[Any], key: str, path: str) -> int:
    """Position in a list: by id where its members have one, else by number."""
    for position, member in enumerate(members):
        if isinstance(member, dict) and member.get("id") == key:
            return position
    named = bool(members) and isinstance(members[0], dict) and "id" in members[0]
    if PLACE.fullmatch(key) and int(key) < len(members) and not named:
        return int(key)
    raise InvalidEdit(f"there is nothing at '{path}' any more")


def holder_of(data: Data, path: str) -> tuple[Any, str]:
    """What holds the last part of a path, and that last part."""
    *parts, last = path.split("/")
    place: Any = data
    for part in parts:
        if isinstance(place, list):
            place = place[index_of(place, part, path)]
        elif isinstance(place, dict) and part in place:
            place = place[part]
        else:
            raise InvalidEdit(f"there is nothing at '{path}'")
    if not isinstance(place, dict | list):
        raise InvalidEdit(f"there is nothing at '{path}'")
    return place, last


def drum_of(data: Data, name: str) -> Data:
    """The kick, or the trigger of that id."""
    if name == "kick":
        return cast(Data, data["kick"])
    return cast(Data, data["triggers"][index_of(data["triggers"], name, f"triggers/{name}")])
