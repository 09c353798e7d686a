"""Parts of a stack that are kept for others: taken out with what they need to be understood, and put into another stack
in its key, range and tempo."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import Field

from apilado.core.document.addresses import carried, find, joined, owner_of, parts_of, with_fresh_ids, within
from apilado.core.document.ducker import Ducker
from apilado.core.document.edits import AnyEdit, Several
from apilado.core.document.edits_layers import AddLayer
from apilado.core.document.edits_values import AddPart, SetShare
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement
from apilado.core.document.naming import place_name
from apilado.core.document.path import Equaliser, Split
from apilado.core.document.stack import BUSES, Stack, keys_apart
from apilado.core.parameters import Model
from apilado.errors import InvalidEdit

PartKind = Literal["layer", "chain", "eq", "duck", "movement"]
LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0
SAME_BORDER_OCTAVES = 0.02
LONGEST_NAME = 60
Data = dict[str, Any]


class Origin(Model):
    """What a part was among."""

    stack: str = ""
    key: str = ""
    tempo_bpm: float = 120.0
    owner: str = ""
    """How the layer or the bus was called that it is of."""


class KeptPart(Model):
    """A part of a stack, as plain values, and what it was among."""

    kind: PartKind
    name: str = Field(min_length=1, max_length=LONGEST_NAME)
    data: Data
    origin: Origin = Origin()

    def asset_hashes(self) -> tuple[str, ...]:
        """The SHA-256 of every asset that it needs."""
        return tuple(dict.fromkeys(_assets_in(self.data)))


@dataclass(frozen=True)
class PutPart:
    """The edit that puts a part into a stack, and what was done so that it fits."""

    edit: Several
    told: str
    made: str
    """The address of what is made."""


def _assets_in(data: Any) -> list[str]:
    if isinstance(data, list):
        return [sha for each in data for sha in _assets_in(each)]
    if not isinstance(data, dict):
        return []
    own = [str(data["asset"])] if data.get("asset") else []
    return [*own, *_assets_in(list(data.values()))]


# --- taken -----------------------------------------------------------------------------------------------------------


def part_taken(stack: Stack, kind: PartKind, address: str) -> KeptPart:
    """A part of a stack, to be kept.

    Raises:
        InvalidEdit: there is nothing of that kind there.
    """
    part, owner = find(stack, address), owner_of(address)
    named = stack.owner_name(address) if find(stack, owner) is not None else ""
    origin = Origin(stack=stack.name, key=stack.key, tempo_bpm=stack.tempo_bpm, owner=named)
    if kind == "layer" and isinstance(part, Layer):
        return KeptPart(kind=kind, name=part.name, data=_layer_data(stack, part), origin=origin)
    if kind == "chain" and (isinstance(part, Layer) or address in BUSES):
        steps = [step.model_dump(mode="json") for step in getattr(part, "path", ()) if not isinstance(step, Split)]
        if steps:
            return KeptPart(kind=kind, name=f"chain of {named}"[:LONGEST_NAME], data={"steps": steps}, origin=origin)
    if kind == "eq" and isinstance(part, Equaliser):
        data = {"step": part.model_dump(mode="json")}
        return KeptPart(kind=kind, name=f"EQ of {named}"[:LONGEST_NAME], data=data, origin=origin)
    if kind == "duck" and isinstance(part, Ducker):
        data = {"duck": {**part.model_dump(mode="json"), "amounts": {}}}
        return KeptPart(kind=kind, name=part.name, data=data, origin=origin)
    if kind == "movement" and isinstance(part, Movement):
        moves = [_place_in(stack, target.path) for target in part.targets]
        moved: Data = {"movement": part.model_dump(mode="json"), "moves": moves}
        return KeptPart(kind=kind, name=part.name, data=moved, origin=origin)
    raise InvalidEdit(f"not kept: there is no {kind} at '{address[:80]}' with anything in it")


def _layer_data(stack: Stack, layer: Layer) -> Data:
    """A layer with what moves it and its shares of the ducks; of one that takes another's sound, that one's source."""
    here, root = joined("layers", layer.id), layer
    while (followed := root.source.follows()) is not None:
        root = stack.layer(followed) or root
    data = {**layer.model_dump(mode="json"), "frozen": [], "source": root.source.model_dump(mode="json")}
    if data["notes"] is None and root.notes is not None:
        data["notes"] = [note.model_dump(mode="json") for note in root.notes]
    movements = []
    for movement in stack.movements:
        targets = [target for target in movement.targets if within(target.path, here)]
        if targets and movement.begins != "section" and movement.shape.follows() is None:
            movements.append(movement.model_copy(update={"targets": tuple(targets)}).model_dump(mode="json"))
    borders = [LOWEST_HZ, *[each.frequency_hz for each in stack.crossovers], HIGHEST_HZ]
    return {
        "layer": _with_the_kick(data),
        "movements": _with_the_kick(movements),
        "shares": {each.name: each.amount(layer.id) for each in stack.duckers},
        "range_hz": [borders[layer.span.first], borders[layer.span.last + 1]],
    }


def _with_the_kick(data: Any) -> Any:
    """What listens to a sound of the stack listens to the kick: the others may not be where it goes."""
    if isinstance(data, list):
        return [_with_the_kick(each) for each in data]
    if not isinstance(data, dict):
        return data
    return {
        name: "kick" if name in ("key", "trigger") and isinstance(value, str) and value else _with_the_kick(value)
        for name, value in data.items()
    }


def _place_in(stack: Stack, path: str) -> Data:
    """Where a value lies, as it can be found in another part: in a step of some kind, or directly."""
    owner = owner_of(path)
    rest = parts_of(path)[len(parts_of(owner)) :]
    if len(rest) > 2 and rest[0] == "path":
        step = find(stack, joined(owner, *rest[:2]))
        return {"step": getattr(step, "kind", ""), "rest": joined(*rest[2:])}
    return {"step": "", "rest": joined(*rest)}


# --- put in ----------------------------------------------------------------------------------------------------------


def put_part(stack: Stack, part: KeptPart, to: str = "") -> PutPart:
    """A kept part in a stack; nothing is changed yet.

    Args:
        to: the address of the layer or bus that a chain, an EQ or a movement goes to.

    Raises:
        InvalidEdit: it goes to a layer or bus, and none is chosen, or there is nothing there for it.
    """
    if part.kind == "layer":
        return _put_layer(stack, part)
    if part.kind == "duck":
        return _put_duck(part)
    owner = find(stack, to)
    if not (isinstance(owner, Layer) or to in BUSES):
        raise InvalidEdit(f"choose a layer or a bus first: ‘{part.name}’ is put into what is chosen")
    if part.kind == "movement":
        return _put_movement(stack, part, to)
    steps = part.data["steps"] if part.kind == "chain" else [part.data["step"]]
    fresh = [with_fresh_ids(step) for step in steps]
    edits: list[AnyEdit] = [AddPart(path=joined(to, "path"), part=step) for step in fresh]
    count = f"{len(fresh)} step{'' if len(fresh) == 1 else 's'}"
    told = f"{count} at the end of the path of {place_name(stack, to)}"
    return _put(part, edits, told, joined(to, "path", fresh[0]["id"]))


def _put(part: KeptPart, edits: list[AnyEdit], told: str, made: str) -> PutPart:
    edit = Several(name=f"Put in {part.name}"[:80], edits=tuple(edits))
    return PutPart(edit, f"{part.name}: {told}.", made)


def _put_layer(stack: Stack, part: KeptPart) -> PutPart:
    given, told = dict[str, str](), list[str]()
    data = with_fresh_ids(part.data["layer"], given)
    old, new = str(part.data["layer"]["id"]), str(data["id"])
    low, high = part.data["range_hz"]
    first, last = bands_between(stack, low, high)
    data["span"] = {"first": first, "last": last}
    borders = [LOWEST_HZ, *[each.frequency_hz for each in stack.crossovers], HIGHEST_HZ]
    now = (borders[first], borders[last + 1])
    if any(abs(math.log2(a / b)) > SAME_BORDER_OCTAVES for a, b in zip((low, high), now, strict=True)):
        told.append(f"from {low:.0f}–{high:.0f} Hz to {now[0]:.0f}–{now[1]:.0f} Hz")
    told += _into_key(data, part, stack) + _into_tempo(data, part, stack)
    edits: list[AnyEdit] = [AddLayer(name=part.name[:40], id=new, whole=data)]
    shares = part.data.get("shares", {})
    edits += [
        SetShare(ducker=each.id, layer=new, amount=shares[each.name]) for each in stack.duckers if each.name in shares
    ]
    for movement in part.data.get("movements", ()):
        moved = with_fresh_ids(movement)
        for target in moved["targets"]:
            target["path"] = carried(
                target["path"], joined("layers", old), joined("layers", new), given, part.data["layer"]
            )
        edits.append(AddPart(path="movements", part=moved))
    return _put(part, edits, "; ".join(told) or "as it was", joined("layers", new))


def bands_between(stack: Stack, low_hz: float, high_hz: float) -> tuple[int, int]:
    """(the first band, the last) of a stack that lie most between two frequencies."""
    borders = [LOWEST_HZ, *[each.frequency_hz for each in stack.crossovers], HIGHEST_HZ]
    shared = [
        max(0.0, math.log2(min(high, high_hz) / max(low, low_hz))) / math.log2(high / low) if low_hz < high else 0.0
        for low, high in itertools.pairwise(borders)
    ]
    inside = [number for number, share in enumerate(shared) if share >= 0.5]
    if not inside:
        inside = [max(range(len(shared)), key=shared.__getitem__)]
    return inside[0], inside[-1]


def _into_key(data: Data, part: KeptPart, stack: Stack) -> list[str]:
    """Moves what does not follow the pattern into the key of the stack; what was done."""
    shift = keys_apart(part.origin.key, stack.key)
    if not shift:
        return []
    moved = False
    source = data["source"]
    if source.get("kind") == "take":
        source["tune_cents"] = min(1200.0, max(-1200.0, source.get("tune_cents", 0.0) + 100.0 * shift))
        moved = True
    for note in data["notes"] or ():
        note["pitch"] = min(127, max(0, note["pitch"] + shift))
        moved = True
    said = f"from {part.origin.key} to {stack.key}, {shift:+d} semitones".replace("-", "−")
    return [said] if moved else []


def _into_tempo(data: Data, part: KeptPart, stack: Stack) -> list[str]:
    """Stretches a recording to the tempo of the stack; what was done."""
    source = data["source"]
    if source.get("kind") != "take" or source.get("own_bpm") or part.origin.tempo_bpm == stack.tempo_bpm:
        return []
    source["own_bpm"] = part.origin.tempo_bpm
    return [f"stretched from {part.origin.tempo_bpm:g} to {stack.tempo_bpm:g} bpm"]


def _put_duck(part: KeptPart) -> PutPart:
    data = with_fresh_ids(part.data["duck"])
    told = "it turns all layers down"
    if data["trigger"] != "kick":
        data["trigger"], told = "kick", f"{told}, and follows the kick"
    return _put(part, [AddPart(path="duckers", part=data)], told, joined("duckers", data["id"]))


def _put_movement(stack: Stack, part: KeptPart, to: str) -> PutPart:
    data = _with_the_kick(with_fresh_ids(part.data["movement"]))
    targets = []
    for target, place in zip(data["targets"], part.data["moves"], strict=True):
        path = _found(stack, to, place)
        if path:
            targets.append({**target, "path": path})
    if not targets:
        raise InvalidEdit(f"there is nothing in {place_name(stack, to)} that ‘{part.name}’ could move")
    if data["begins"] == "section":
        data |= {"begins": "once", "section": ""}
    data["targets"] = targets
    moves = ", ".join(place_name(stack, target["path"]) for target in targets)
    return _put(part, [AddPart(path="movements", part=data)], f"it moves {moves}", joined("movements", data["id"]))


def _found(stack: Stack, to: str, place: Data) -> str:
    """The address in a layer or bus of a value like that which was moved; '' where there is none."""
    if not place["step"]:
        path = joined(to, *parts_of(place["rest"]))
        return path if find(stack, path) is not None else ""
    for address, step in stack.steps_of(to).items():
        path = joined(address, *parts_of(place["rest"]))
        if getattr(step, "kind", "") == place["step"] and find(stack, path) is not None:
            return path
    return ""
