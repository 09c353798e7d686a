"""From older versions of the document to the present one, a step at a time."""

from __future__ import annotations

import copy
from collections.abc import Callable
from types import MappingProxyType
from typing import Any

from apilado.core.document.addresses import joined, within
from apilado.core.parts import steady_id

Data = dict[str, Any]


def _from_1(data: Data) -> Data:
    """Version 2: any number of duckers, with a share of each layer; triggers with a sound of their own."""
    data = copy.deepcopy(data)
    shares = {
        layer["id"]: layer.pop("duck_amount")
        for layer in _listed(data, "layers")
        if isinstance(layer, dict) and isinstance(layer.get("id"), str) and "duck_amount" in layer
    }
    duck = data.pop("duck", {})
    if isinstance(duck, dict):
        general = {name: duck.pop(name) for name in ("on", "trigger") if name in duck}
        amounts = {name: share for name, share in shares.items() if share != 1.0}
        shape = {"kind": "keyed", **duck}
        data["duckers"] = [{"id": "duck", "name": "Duck", **general, "amounts": amounts, "shape": shape}]
    else:
        data["duckers"] = duck  # whatever it is, it is refused as what it is not
    sound = data.get("kick", {}).get("sound") if isinstance(data.get("kick"), dict) else None
    for trigger in _listed(data, "triggers"):
        if isinstance(trigger, dict):
            trigger["mute"] = True
            if sound is not None:
                trigger["sound"] = copy.deepcopy(sound)
    data["version"] = 2
    return data


def _from_2(data: Data) -> Data:
    """Version 3: solo is a listener's, not the document's: what was soloed is there with all the rest."""
    data = copy.deepcopy(data)
    triggers, layers = _listed(data, "triggers"), _listed(data, "layers")
    owners = [*layers, *triggers, *[data.get(name) for name in ("kick", "bus", "shared")]]
    for owner in [each for each in owners if isinstance(each, dict)]:
        for point in [each for each in _listed(owner, "eq") if isinstance(each, dict)]:
            point.pop("solo", None)
    for layer in [each for each in layers if isinstance(each, dict)]:
        layer.pop("solo", None)
    data["version"] = 3
    return data


def _from_3(data: Data) -> Data:
    """Version 4: all that is listed has an id. Those given here follow from the place: at every reading the same."""
    data = copy.deepcopy(data)
    _with_ids(_listed(data, "crossovers"), "crossovers")
    owners = [("layers", each) for each in _listed(data, "layers")]
    owners += [("triggers", each) for each in _listed(data, "triggers")]
    owners += [(name, data.get(name)) for name in ("kick", "bus", "shared")]
    for kind, owner in owners:
        if not isinstance(owner, dict):
            continue
        place = f"{kind}/{owner.get('id', '')}"
        for name in ("eq", "treatments"):
            _with_ids(_listed(owner, name), f"{place}/{name}")
        source = owner.get("source")
        if isinstance(source, dict):
            if source.get("kind") == "tone":
                source.setdefault("tones", [{}])
            _with_ids(_listed(source, "tones"), f"{place}/source/tones")
    data["version"] = 4
    return data


def _from_4(data: Data) -> Data:
    """Version 5: treatments, EQ and split are steps of one path; carve pairs name an EQ, not a layer or bus."""
    data = copy.deepcopy(data)
    for layer in [each for each in _listed(data, "layers") if isinstance(each, dict)]:
        treated, split = layer.pop("treatments", []), {"id": steady_id("split"), "kind": "split"}
        before = [split] if layer.pop("split", "before") != "after" else []
        layer["path"] = [*before, *_steps(treated), *([] if before else [split]), _eq_step(layer)]
    for bus in [each for each in (data.get("bus"), data.get("shared")) if isinstance(each, dict)]:
        bus["path"] = [_eq_step(bus), *_steps(bus.pop("treatments", []))]
    for drum in [each for each in (data.get("kick"), *_listed(data, "triggers")) if isinstance(each, dict)]:
        if "eq" in drum:
            drum["eq"] = {"points": drum["eq"]}
    for pair in [each for each in _listed(data, "pairs") if isinstance(each, dict)]:
        for end in [end for end in ("dip", "lift") if isinstance(pair.get(end), str)]:
            of_drum = pair[end] == "kick" or within(pair[end], "triggers")
            pair[end] = joined(pair[end], "eq") if of_drum else joined(pair[end], "path", EQ_OF_4)
    _one_voice(data)
    data["chance"] = "order"  # as it was: the phases that were drawn are heard
    for name in ("bus", "shared"):
        data.setdefault(name, {"path": [_eq_step({})]})
    data["version"] = 5
    return data


def _one_voice(data: Data) -> None:
    """The envelope and glide that most tones of version 4 had become the stack's voice; others keep their own."""
    layers = [each for each in _listed(data, "layers") if isinstance(each, dict)]
    voices: list[tuple[Data, Data]] = []
    for layer in layers:
        source = layer.get("source", {"kind": "tone"})
        if isinstance(source, dict) and source.get("kind") == "tone":
            voices.append((layer, {name: source.pop(name) for name in ("envelope", "glide_ms") if name in source}))
    if voices:
        found = [voice for _, voice in voices]
        data["voice"] = copy.deepcopy(max(found, key=found.count))
        for layer, voice in voices:
            if voice != data["voice"]:
                layer["voice"] = voice


EQ_OF_4 = steady_id("eq")
"""The id of the one EQ that a layer or a bus had in version 4: unique in its path, and the same at every reading."""


def _eq_step(owner: Data) -> Data:
    """The EQ of a layer or bus of version 4, as a step."""
    phase = {"phase": owner.pop("eq_phase")} if "eq_phase" in owner else {}
    return {"id": EQ_OF_4, "kind": "eq", **phase, "points": owner.pop("eq", [])}


def _steps(treatments: Any) -> list[Any]:
    return treatments if isinstance(treatments, list) else [treatments]


def _with_ids(members: list[Any], place: str) -> None:
    for index, each in enumerate(members):
        if isinstance(each, dict):
            each.setdefault("id", steady_id(f"{place}/{index}"))


def _listed(data: Data, name: str) -> list[Any]:
    """A list of a document that may be anything: what is none is refused afterwards as what it is."""
    found = data.get(name)
    return found if isinstance(found, list) else []


def _from_5(data: Data) -> Data:
    """Version 6 has more kinds of treatments, and drives have filters: what there was is as it was."""
    return {**data, "version": 6}


def _from_6(data: Data) -> Data:
    """Version 7: layers can be frozen; none was."""
    return {**data, "version": 7}


MIGRATIONS: MappingProxyType[int, Callable[[Data], Data]] = MappingProxyType(
    {1: _from_1, 2: _from_2, 3: _from_3, 4: _from_4, 5: _from_5, 6: _from_6}
)
"""By the version that they start from; each gives the next."""
