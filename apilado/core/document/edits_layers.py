"""Edits of whole layers and of sources."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from apilado.core.document.addresses import forget, get, with_fresh_ids
from apilado.core.document.editing import (
    Data,
    Edit,
    carry_movements,
    carry_over,
    check_kind,
    drum_of,
    fresh_name,
    layer_at,
    next_tint,
)
from apilado.core.document.followers import followers_said, pass_sound_on
from apilado.core.document.kick import KICK_SOUNDS
from apilado.core.document.naming import layer_name
from apilado.core.document.stack import BUSES, Stack
from apilado.core.parts import ID_PATTERN, LONGEST_ID, new_id
from apilado.core.sources.registry import SOURCES
from apilado.errors import InvalidEdit


class AddLayer(Edit):
    """Adds a layer above the others: a new tone over all bands, or a copy of another layer."""

    op: Literal["add-layer"] = "add-layer"
    name: str = Field(default="layer", min_length=1, max_length=40)
    copy_of: str | None = None
    whole: Data | None = None
    """All of it, where it was kept; its parts have ids of their own already."""
    id: str | None = Field(default=None, min_length=1, max_length=LONGEST_ID, pattern=ID_PATTERN)
    """What the new layer is to be called by other edits that come with this one."""

    def alter(self, data: Data) -> None:
        layers = data["layers"]
        tint = next_tint(layers)
        if self.whole is not None:
            layers.append(
                {**self.whole, "id": self.id or new_id(), "name": fresh_name(self.name, layers), "tint": tint}
            )
            return
        if self.copy_of is None:
            new: Data = {"span": {"first": 0, "last": len(data["crossovers"])}, "level_db": -6.0}
            name = fresh_name(self.name, layers)
            layers.append({**new, "id": self.id or new_id(), "name": name, "tint": tint})
            return
        original = get(data, f"layers/{self.copy_of}")
        name = fresh_name(f"{original['name'][:31]} copy", layers)
        given: dict[str, str] = {}
        copied = {**with_fresh_ids(original, given), "name": name, "tint": tint}
        copied["id"] = self.id or copied["id"]
        layers.insert(layers.index(original) + 1, copied)
        carry_over(data, self.copy_of, copied["id"])
        carry_movements(data, f"layers/{self.copy_of}", f"layers/{copied['id']}", given)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Copy {layer_name(self.copy_of, before)}" if self.copy_of else "Add a layer"


class RemoveLayer(Edit):
    """Removes a layer that no other layer takes its sound from."""

    op: Literal["remove-layer"] = "remove-layer"
    layer: str

    def alter(self, data: Data) -> None:
        layers, index = layer_at(data, self.layer)
        for other in layers:
            source = other["source"]
            if source["kind"] == "layer" and source["layer"] == self.layer:
                raise InvalidEdit(
                    f"'{layers[index]['name']}' cannot go: '{other['name']}' takes its sound from it. "
                    f"Give '{other['name']}' another source first."
                )
        for movement in data["movements"]:
            if movement["shape"].get("trigger") == f"layers/{self.layer}":
                raise InvalidEdit(
                    f"'{layers[index]['name']}' cannot go: the movement '{movement['name']}' follows it. "
                    "Let that follow another sound first."
                )
        others = [(f"'{other['name']}'", other) for other in layers if other is not layers[index]]
        for name, owner in (*others, *((BUS_NAMES[name], data[name]) for name in BUSES)):
            if _listens(owner["path"], f"layers/{self.layer}"):
                raise InvalidEdit(
                    f"'{layers[index]['name']}' cannot go: a step of {name} listens to it. "
                    "Let that listen to another sound first."
                )
        del layers[index]
        forget(data, f"layers/{self.layer}")

    def title(self, before: Stack, after: Stack) -> str:
        return f"Remove {layer_name(self.layer, before)}"


BUS_NAMES = {"bus": "the bus", "space": "the space", "shared": "the shared bus"}


def _listens(path: list[Data], sound: str) -> bool:
    """Whether a step of a path, or one in a chain of its containers, listens to a sound."""
    chains = [inner.get("path", []) for step in path for inner in (step, *step.get("bands", []))]
    return any(step.get("key") == sound for step in path) or any(_listens(chain, sound) for chain in chains)


class MoveLayer(Edit):
    """Moves a layer to a place in the order."""

    op: Literal["move-layer"] = "move-layer"
    layer: str
    to: int = Field(ge=0)

    def alter(self, data: Data) -> None:
        layers, index = layer_at(data, self.layer)
        layer = layers.pop(index)
        layers.insert(min(self.to, len(layers)), layer)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Move {layer_name(self.layer, before)}"


class SetSource(Edit):
    """Gives a layer a source of another kind, or one given whole."""

    op: Literal["set-source"] = "set-source"
    layer: str
    source: Data
    alone: bool = False
    """Whether the layers that take its sound play on what they played."""

    def alter(self, data: Data) -> None:
        check_kind(self.source, SOURCES, "source")
        layers, index = layer_at(data, self.layer)
        if self.alone:
            pass_sound_on(layers, self.layer)
        layers[index]["source"] = self.source

    def title(self, before: Stack, after: Stack) -> str:
        name = layer_name(self.layer, after)
        return f"{name} plays {self.source['file_name']}" if self.source.get("file_name") else f"Source of {name}"

    def remark(self, before: Stack, after: Stack) -> str | None:
        return followers_said(after, self.layer)


class SetDrumSound(Edit):
    """Gives the kick, or a trigger, another sound."""

    op: Literal["set-drum-sound"] = "set-drum-sound"
    drum: str = "kick"
    sound: Data

    def alter(self, data: Data) -> None:
        check_kind(self.sound, KICK_SOUNDS, "drum's sound")
        drum_of(data, self.drum)["sound"] = self.sound

    def title(self, before: Stack, after: Stack) -> str:
        name = after.drum_names()[self.drum]
        return f"{name} plays {self.sound['file_name']}" if self.sound.get("file_name") else f"Sound of {name}"
