"""Edits: functions from a document to a document.

An edit is data (`AnyEdit`), so it can be posted, stored, offered as a remedy and grouped. It names layers by id and
notes by value, never by a position that another edit may have moved. `apply` returns the new document, or raises
and leaves the old one as it was.
"""

from __future__ import annotations

import re
from functools import reduce
from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError

from apilado.core.document.equaliser import POINTS
from apilado.core.document.kick import KICK_SOUNDS
from apilado.core.document.layer import TINTS
from apilado.core.document.reading import explain
from apilado.core.document.stack import CLOSEST_BORDERS, Stack
from apilado.core.notes import Note
from apilado.core.parameters import Model
from apilado.core.sources.registry import SOURCES
from apilado.core.sources.tone import MOST_HARMONICS
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.units import midi_to_name
from apilado.errors import InvalidEdit

Data = dict[str, Any]
LOWEST_BORDER_HZ, HIGHEST_BORDER_HZ = 30.0, 16000.0


class Edit(Model):
    """One change. Subclasses alter the parsed document in place and say in a few words what they do."""

    def alter(self, data: Data) -> None:
        """Changes `data`, the document as plain values."""
        raise NotImplementedError

    def title(self) -> str:
        """What it does, for undo and for messages."""
        raise NotImplementedError


class SetValue(Edit):
    """Sets the value at a path such as `layers/mid/level_db`."""

    op: Literal["set"] = "set"
    path: str = Field(min_length=1, max_length=200)
    value: Any

    def alter(self, data: Data) -> None:
        holder, last = _holder(data, self.path)
        if isinstance(holder, list):
            holder[_index(holder, last, self.path)] = self.value
        elif last in holder:
            holder[last] = self.value
        else:
            raise InvalidEdit(f"there is nothing at '{self.path}'")

    def title(self) -> str:
        return "Set " + self.path.replace("_db", "").replace("_hz", "").replace("_ms", "").replace("/", " · ")


class MoveCrossover(Edit):
    """Moves a crossover, stopping a third of an octave short of its neighbours."""

    op: Literal["move-crossover"] = "move-crossover"
    index: int = Field(ge=0)
    frequency_hz: float

    def alter(self, data: Data) -> None:
        crossovers = data["crossovers"]
        _check_index(crossovers, self.index, "crossover")
        low, high = LOWEST_BORDER_HZ, HIGHEST_BORDER_HZ
        if self.index > 0:
            low = crossovers[self.index - 1]["frequency_hz"] * CLOSEST_BORDERS
        if self.index + 1 < len(crossovers):
            high = crossovers[self.index + 1]["frequency_hz"] / CLOSEST_BORDERS
        crossovers[self.index]["frequency_hz"] = min(max(self.frequency_hz, low), high)

    def title(self) -> str:
        return f"Crossover to {self.frequency_hz:.0f} Hz"


class AddCrossover(Edit):
    """Cuts the band at a frequency in two; whoever owned it owns both halves."""

    op: Literal["add-crossover"] = "add-crossover"
    frequency_hz: float = Field(ge=LOWEST_BORDER_HZ, le=HIGHEST_BORDER_HZ)

    def alter(self, data: Data) -> None:
        crossovers = data["crossovers"]
        band = sum(1 for crossover in crossovers if crossover["frequency_hz"] < self.frequency_hz)
        slope = crossovers[min(band, len(crossovers) - 1)]["slope_db_per_octave"] if crossovers else 24
        crossovers.insert(band, {"frequency_hz": self.frequency_hz, "slope_db_per_octave": slope})
        for layer in data["layers"]:
            span = layer["span"]
            span["first"] += span["first"] > band
            span["last"] += span["last"] >= band

    def title(self) -> str:
        return f"Add a crossover at {self.frequency_hz:.0f} Hz"


class RemoveCrossover(Edit):
    """Joins the two bands at a crossover."""

    op: Literal["remove-crossover"] = "remove-crossover"
    index: int = Field(ge=0)

    def alter(self, data: Data) -> None:
        _check_index(data["crossovers"], self.index, "crossover")
        del data["crossovers"][self.index]
        for layer in data["layers"]:
            span = layer["span"]
            span["first"] -= span["first"] > self.index
            span["last"] -= span["last"] > self.index

    def title(self) -> str:
        return "Remove a crossover"


class AddLayer(Edit):
    """Adds a layer above the others: a new tone over all bands, or a copy of another layer."""

    op: Literal["add-layer"] = "add-layer"
    name: str = Field(default="layer", min_length=1, max_length=40)
    copy_of: str | None = None

    def alter(self, data: Data) -> None:
        layers = data["layers"]
        used = {layer["tint"] for layer in layers}
        tint = next((t for t in TINTS if t not in used), TINTS[len(layers) % len(TINTS)])
        taken = {layer["id"] for layer in layers}
        if self.copy_of is None:
            new: Data = {"span": {"first": 0, "last": len(data["crossovers"])}, "level_db": -6.0}
            layers.append({**new, "id": fresh_id(self.name, taken), "name": self.name, "tint": tint})
            return
        original = layers[_index(layers, self.copy_of, f"layers/{self.copy_of}")]
        name = f"{original['name'][:33]} copy"
        copied = {**original, "id": fresh_id(name, taken), "name": name, "tint": tint}
        layers.insert(layers.index(original) + 1, copied)

    def title(self) -> str:
        return "Copy a layer" if self.copy_of else "Add a layer"


class RemoveLayer(Edit):
    """Removes a layer that no other layer takes its sound from."""

    op: Literal["remove-layer"] = "remove-layer"
    layer: str

    def alter(self, data: Data) -> None:
        layers = data["layers"]
        index = _index(layers, self.layer, f"layers/{self.layer}")
        for other in layers:
            source = other["source"]
            if source["kind"] == "layer" and source["layer"] == self.layer:
                raise InvalidEdit(
                    f"'{layers[index]['name']}' cannot go: '{other['name']}' takes its sound from it. "
                    f"Give '{other['name']}' another source first."
                )
        del layers[index]

    def title(self) -> str:
        return f"Remove {self.layer}"


class MoveLayer(Edit):
    """Moves a layer to a place in the order."""

    op: Literal["move-layer"] = "move-layer"
    layer: str
    to: int = Field(ge=0)

    def alter(self, data: Data) -> None:
        layers = data["layers"]
        layer = layers.pop(_index(layers, self.layer, f"layers/{self.layer}"))
        layers.insert(min(self.to, len(layers)), layer)

    def title(self) -> str:
        return f"Move {self.layer}"


class SetSource(Edit):
    """Gives a layer a source of another kind, or one given whole."""

    op: Literal["set-source"] = "set-source"
    layer: str
    source: Data

    def alter(self, data: Data) -> None:
        layers = data["layers"]
        _check_kind(self.source, SOURCES, "source")
        layers[_index(layers, self.layer, f"layers/{self.layer}")]["source"] = self.source

    def title(self) -> str:
        return f"Source of {self.layer}"


class SetKickSound(Edit):
    """Gives the kick another sound."""

    op: Literal["set-kick-sound"] = "set-kick-sound"
    sound: Data

    def alter(self, data: Data) -> None:
        _check_kind(self.sound, KICK_SOUNDS, "kick sound")
        data["kick"]["sound"] = self.sound

    def title(self) -> str:
        return "Sound of the kick"


class AddPart(Edit):
    """Adds a treatment, an EQ point or a tone at the end of the list at `path`."""

    op: Literal["add"] = "add"
    path: str = Field(pattern=r"(^|/)(eq|treatments|tones|triggers)$")
    part: Data

    def alter(self, data: Data) -> None:
        holder, last = _holder(data, self.path)
        if not isinstance(holder, dict) or not isinstance(holder.get(last), list):
            raise InvalidEdit(f"there is no list at '{self.path}'")
        if last == "eq":
            _check_kind(self.part, POINTS, "EQ point")
        elif last == "treatments":
            _check_kind(self.part, TREATMENTS, "treatment")
        holder[last].append(self.part)

    def title(self) -> str:
        return f"Add to {self.path.replace('/', ' · ')}"


class RemovePart(Edit):
    """Removes the member of a list at `path`, such as `layers/mid/eq/0`."""

    op: Literal["remove"] = "remove"
    path: str = Field(pattern=r"(^|/)(eq|treatments|tones|triggers)/[a-z0-9-]+$")

    def alter(self, data: Data) -> None:
        holder, last = _holder(data, self.path)
        if not isinstance(holder, list):
            raise InvalidEdit(f"there is no list around '{self.path}'")
        del holder[_index(holder, last, self.path)]

    def title(self) -> str:
        return f"Remove {self.path.replace('/', ' · ')}"


class MovePart(Edit):
    """Moves a treatment or an EQ point to another place in its chain."""

    op: Literal["move"] = "move"
    path: str = Field(pattern=r"(^|/)(eq|treatments|tones)/[0-9]+$")
    to: int = Field(ge=0)

    def alter(self, data: Data) -> None:
        holder, last = _holder(data, self.path)
        part = holder.pop(_index(holder, last, self.path))
        holder.insert(min(self.to, len(holder)), part)

    def title(self) -> str:
        return f"Move {self.path.replace('/', ' · ')}"


class SetHarmonic(Edit):
    """Sets the amplitude of one harmonic of the tone at `path`; null gives it back to the tone's shape."""

    op: Literal["harmonic"] = "harmonic"
    path: str = Field(pattern=r"^layers/[a-z0-9-]+/source/tones/[0-9]+$")
    number: int = Field(ge=1, le=MOST_HARMONICS)
    amplitude: float | None = Field(ge=0.0, le=2.0)

    def alter(self, data: Data) -> None:
        holder, last = _holder(data, self.path)
        tone = holder[_index(holder, last, self.path)]
        levels = list(tone["harmonics"])
        levels += [None] * (self.number - len(levels))
        levels[self.number - 1] = None if self.amplitude is None else round(self.amplitude, 4)
        while levels and levels[-1] is None:
            levels.pop()
        tone["harmonics"] = levels

    def title(self) -> str:
        return f"Harmonic {self.number} of {self.path.split('/')[1]}"


class ReplaceNote(Edit):
    """Adds (`was` is null), changes, or removes (`now` is null) a note of the pattern."""

    op: Literal["note"] = "note"
    was: Note | None = None
    now: Note | None = None

    def alter(self, data: Data) -> None:
        pattern = data["pattern"]
        if self.was is not None:
            was = self.was.model_dump(mode="json")
            if was not in pattern:
                name = midi_to_name(self.was.pitch)
                raise InvalidEdit(f"there is no {name} at beat {self.was.start_beats:g} any more")
            pattern.remove(was)
        if self.now is not None:
            pattern.append(self.now.model_dump(mode="json"))
            pattern.sort(key=lambda note: (note["start_beats"], note["pitch"]))

    def title(self) -> str:
        if self.now is None:
            return "Remove a note"
        return f"{'Note to' if self.was else 'Add'} {midi_to_name(self.now.pitch)}"


class ReplaceHit(Edit):
    """Adds (`was` is null), moves, or removes (`now` is null) a hit of the kick or of a trigger."""

    op: Literal["hit"] = "hit"
    trigger: str = "kick"
    was: float | None = None
    now: float | None = Field(default=None, ge=0.0, le=1024.0)

    def alter(self, data: Data) -> None:
        if self.trigger == "kick":
            holder = data["kick"]
        else:
            holder = data["triggers"][_index(data["triggers"], self.trigger, f"triggers/{self.trigger}")]
        hits = list(holder["hits"])
        if self.was is not None:
            if self.was not in hits:
                raise InvalidEdit(f"there is no hit at beat {self.was:g} any more")
            hits.remove(self.was)
        if self.now is not None:
            hits.append(self.now)
        holder["hits"] = sorted(set(hits))

    def title(self) -> str:
        if self.now is None:
            return "Remove a hit"
        return f"Hit to beat {self.now:g}" if self.was is not None else f"Add a hit at beat {self.now:g}"


class TransposePattern(Edit):
    """Moves all notes of the pattern by semitones."""

    op: Literal["transpose"] = "transpose"
    semitones: int = Field(ge=-48, le=48)

    def alter(self, data: Data) -> None:
        for note in data["pattern"]:
            note["pitch"] += self.semitones

    def title(self) -> str:
        return f"Transpose the pattern by {self.semitones:+d} semitones"


class SetPattern(Edit):
    """Replaces the pattern; optionally tempo and length with it."""

    op: Literal["set-pattern"] = "set-pattern"
    notes: tuple[Note, ...]
    tempo_bpm: float | None = None
    bars: int | None = None

    def alter(self, data: Data) -> None:
        data["pattern"] = [note.model_dump(mode="json") for note in self.notes]
        if self.tempo_bpm is not None:
            data["tempo_bpm"] = self.tempo_bpm
        if self.bars is not None:
            data["bars"] = self.bars

    def title(self) -> str:
        return f"Pattern of {len(self.notes)} notes"


class Several(Edit):
    """Edits done as one."""

    op: Literal["several"] = "several"
    name: str = Field(min_length=1, max_length=80)
    edits: tuple[AnyEdit, ...] = Field(min_length=1, max_length=64)

    def title(self) -> str:
        return self.name


EDITS: tuple[type[Edit], ...] = (
    SetValue,
    MoveCrossover,
    AddCrossover,
    RemoveCrossover,
    AddLayer,
    RemoveLayer,
    MoveLayer,
    SetSource,
    SetKickSound,
    AddPart,
    RemovePart,
    MovePart,
    SetHarmonic,
    ReplaceNote,
    ReplaceHit,
    TransposePattern,
    SetPattern,
    Several,
)
AnyEdit = Annotated[
    SetValue
    | MoveCrossover
    | AddCrossover
    | RemoveCrossover
    | AddLayer
    | RemoveLayer
    | MoveLayer
    | SetSource
    | SetKickSound
    | AddPart
    | RemovePart
    | MovePart
    | SetHarmonic
    | ReplaceNote
    | ReplaceHit
    | TransposePattern
    | SetPattern
    | Several,
    Field(discriminator="op"),
]
Several.model_rebuild()
_ADAPTER: TypeAdapter[Edit] = TypeAdapter(AnyEdit)


def edit_from_data(data: Any) -> Edit:
    """An edit from parsed JSON.

    Raises:
        InvalidEdit: it is none.
    """
    try:
        return _ADAPTER.validate_python(data)
    except ValidationError as error:
        raise InvalidEdit(f"this edit is not valid: {explain(error)}") from None


def apply(stack: Stack, edit: Edit) -> Stack:
    """The document after the edit.

    Raises:
        InvalidEdit: the edit does not fit the document, or would make it invalid.
    """
    if isinstance(edit, Several):
        return reduce(apply, edit.edits, stack)
    data = stack.model_dump(mode="json")
    edit.alter(data)
    try:
        return Stack.model_validate(data)
    except ValidationError as error:
        raise InvalidEdit(f"not changed: {explain(error)}") from None


def fresh_id(name: str, taken: set[str]) -> str:
    """An id made from a name that is not taken yet."""
    base = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:32] or "layer"
    if base not in taken:
        return base
    return next(f"{base}-{n}" for n in range(2, 10_000) if f"{base}-{n}" not in taken)


def _check_index(members: list[Any], index: int, what: str) -> None:
    if index >= len(members):
        raise InvalidEdit(f"there is no {what} {index} any more; there are {len(members)}")


def _check_kind(part: Data, registry: tuple[Any, ...], what: str) -> None:
    kinds = [model.model_fields["kind"].default for model in registry]
    if part.get("kind") not in kinds:
        raise InvalidEdit(f"a {what} is one of {', '.join(kinds)}, not '{part.get('kind')}'")


def _index(members: list[Any], key: str, path: str) -> int:
    """Position in a list: by id where its members have one, else by number."""
    for position, member in enumerate(members):
        if isinstance(member, dict) and member.get("id") == key:
            return position
    if key.isdigit() and int(key) < len(members) and not (members and "id" in (members[0] or {})):
        return int(key)
    raise InvalidEdit(f"there is nothing at '{path}' any more")


def _holder(data: Data, path: str) -> tuple[Any, str]:
    """What holds the last part of a path, and that last part."""
    *parts, last = path.split("/")
    place: Any = data
    for part in parts:
        if isinstance(place, list):
            place = place[_index(place, part, path)]
        elif isinstance(place, dict) and part in place:
            place = place[part]
        else:
            raise InvalidEdit(f"there is nothing at '{path}'")
    if not isinstance(place, dict | list):
        raise InvalidEdit(f"there is nothing at '{path}'")
    return place, last
