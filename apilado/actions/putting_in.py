"""Use case: a sound of the Quarry put into a stack as a layer, in the stack's key, range and tempo."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from apilado.actions.finding import sample_values
from apilado.actions.workspace import Workspace
from apilado.core.document.edits import AnyEdit, Several
from apilado.core.document.edits_layers import AddLayer, SetSource
from apilado.core.document.edits_values import SetValue
from apilado.core.document.stack import Stack, keys_apart
from apilado.core.measure.onsets import onsets
from apilado.core.notes import Note
from apilado.core.parts import new_id
from apilado.core.sources.sample import MOST_SLICES
from apilado.errors import InvalidEdit
from apilado.store.sounds import Entry

How = Literal["laid", "reversed", "played", "sliced", "held"]
HOWS: dict[How, str] = {
    "laid": "laid as it is",
    "reversed": "reversed",
    "played": "played by the notes",
    "sliced": "sliced onto the pattern",
    "held": "held as long as the notes",
}
SAME_TEMPO_BPM = 0.01
LEVEL_DB = -6.0
HELD_AT = 0.4
"""Of its length: where a sound is held that does not say so itself."""
HELD_FROM_S = 0.05
LONGEST_SLICE_LIST = 4096
FILE_NAME = 200


@dataclass(frozen=True)
class PutIn:
    """The edit that puts a sound into a stack, and what was done to it so that it fits."""

    edit: Several
    told: str
    layer: str
    """The id of its layer."""


def put_in(
    workspace: Workspace, stack: Stack, entry: Entry, how: How, *, start_beats: float = 0.0, name: str = ""
) -> PutIn:
    """A sound as a layer of its own; nothing is changed yet.

    Raises:
        InvalidEdit: nothing begins in it that it could be sliced at, or there are no notes to play it.
        StorageFault: its file has gone.
    """
    layer, named = new_id(), (name or entry.name)[:40]
    source, further, told = _source(workspace, stack, entry, how, start_beats)
    source = {"file_name": f"{entry.name}.wav"[-FILE_NAME:], "asset": entry.asset, **source}
    edits: list[AnyEdit] = [
        AddLayer(name=named, id=layer),
        SetSource(layer=layer, source=source),
        *(SetValue(path=f"layers/{layer}/{path}", value=value) for path, value in further.items()),
    ]
    said = f"{entry.name}, {HOWS[how]}" + "".join(f"; {each}" for each in told)
    return PutIn(Several(name=f"Put in {entry.name}"[:80], edits=tuple(edits)), f"{said}.", layer)


def _source(
    workspace: Workspace, stack: Stack, entry: Entry, how: How, start_beats: float
) -> tuple[dict[str, Any], dict[str, Any], list[str]]:
    """(the source, further values of its layer, what was done so that it fits)."""
    if how in ("laid", "reversed"):
        return _laid(stack, entry, backwards=how == "reversed", start_beats=start_beats)
    known = sample_values(workspace, workspace.assets.get(entry.asset), stack.sample_rate)
    if how == "sliced":
        return _sliced(workspace, stack, entry, known)
    return _played(stack, known, held=how == "held", seconds=workspace.assets.seconds_of(entry.asset))


def _laid(
    stack: Stack, entry: Entry, *, backwards: bool, start_beats: float
) -> tuple[dict[str, Any], dict[str, Any], list[str]]:
    source: dict[str, Any] = {"kind": "take", "backwards": backwards, "start_beats": start_beats}
    told = []
    if entry.tempo_bpm and abs(entry.tempo_bpm - stack.tempo_bpm) > SAME_TEMPO_BPM:
        source["own_bpm"] = entry.tempo_bpm
        told.append(f"stretched from {entry.tempo_bpm:g} to {stack.tempo_bpm:g} bpm")
    shift = keys_apart(entry.key, stack.key)
    if shift:
        source["tune_cents"] = 100.0 * shift
        told.append(f"tuned from {entry.key} to {stack.key}, {shift:+d} semitones".replace("-", "−"))
    if entry.key and entry.key.split()[-1] != stack.key.split()[-1]:
        told.append(f"it was made in {entry.key.split()[-1]}, the stack is in {stack.key.split()[-1]}")
    if entry.beats and 0.0 < entry.beats < stack.beats - start_beats and not start_beats:
        source["every_beats"] = entry.beats
        told.append(f"laid again every {entry.beats:g} beats")
    return source, {"level_db": LEVEL_DB}, told


def _played(
    stack: Stack, known: dict[str, Any], *, held: bool, seconds: float
) -> tuple[dict[str, Any], dict[str, Any], list[str]]:
    source: dict[str, Any] = {"kind": "sample", **known}
    told = []
    if "root" not in known:
        source["pitching"] = "none"
        told.append("no pitch was found in it, so that every note plays it as it is")
    if held and not known.get("held"):
        source |= {"held": True, "hold_at_ms": round(1000.0 * max(HELD_FROM_S, HELD_AT * seconds), 1)}
    further: dict[str, Any] = {"level_db": LEVEL_DB}
    octaves = _octaves(stack.played(), known.get("root"))
    if octaves:
        further["transpose"] = 12 * octaves
        told.append(f"played {abs(octaves)} octave{'' if abs(octaves) == 1 else 's'} higher, near its own pitch")
    return source, further, told


def _octaves(notes: Sequence[Note], root: int | None) -> int:
    """By how many octaves notes are played higher so that they lie near a root; a sound is not slowed down for them."""
    if root is None or not notes:
        return 0
    middle = float(np.median([note.pitch for note in notes]))
    return min(4, max(0, math.floor((root - middle) / 12.0 + 0.5)))


def _sliced(
    workspace: Workspace, stack: Stack, entry: Entry, known: dict[str, Any]
) -> tuple[dict[str, Any], dict[str, Any], list[str]]:
    audio = workspace.load(entry.asset, stack.sample_rate)
    places = [round(1000.0 * each.seconds, 1) for each in onsets(audio, rate_hz=stack.sample_rate)][:MOST_SLICES]
    if not places:
        raise InvalidEdit(f"nothing begins in '{entry.name}': there is nothing to slice")
    notes = stack.pattern[:LONGEST_SLICE_LIST]
    if not notes:
        raise InvalidEdit("there are no notes to play slices with: draw some in the Passage first")
    root = int(min(known.get("root", 36), 127 - len(places) + 1))
    turns = {start: number for number, start in enumerate(sorted({note.start_beats for note in notes}))}
    own = [note.model_copy(update={"pitch": root + turns[note.start_beats] % len(places)}) for note in notes]
    once = {note.start_beats: note for note in own}
    source = {
        "kind": "sample",
        **known,
        "root": root,
        "held": False,
        "sliced": True,
        "slices_ms": places,
        "pitching": "none",
    }
    further = {"notes": [note.model_dump(mode="json") for note in once.values()], "level_db": LEVEL_DB}
    count = f"{len(places)} slice{'' if len(places) == 1 else 's'}"
    return source, further, [f"{count}, one after the other on the notes of the pattern"]
