"""Edits of notes and hits."""

from __future__ import annotations

import math
from typing import ClassVar, Literal

from pydantic import Field

from apilado.core.document.addresses import find, get
from apilado.core.document.editing import Data, Edit, drum_of
from apilado.core.document.layer import Layer
from apilado.core.document.naming import layer_name
from apilado.core.document.stack import MOST_BARS, Stack, shifted_key
from apilado.core.notes import Note
from apilado.core.units import bar_and_beat, midi_to_name
from apilado.errors import InvalidEdit


def _place(data: Data, beats: float) -> str:
    return bar_and_beat(beats, data["beats_per_bar"])


class ReplaceNote(Edit):
    """Adds (`was` is null), changes, or removes (`now` is null) a note of the pattern, or of a layer's own notes."""

    op: Literal["note"] = "note"
    layer: str | None = Field(default=None, max_length=40)
    """The layer whose own notes they are; null for those of the stack."""
    was: Note | None = None
    now: Note | None = None

    def alter(self, data: Data) -> None:
        pattern = data["pattern"] if self.layer is None else get(data, f"layers/{self.layer}")["notes"]
        if pattern is None:
            raise InvalidEdit(f"'{get(data, f'layers/{self.layer}')['name']}' has no notes of its own any more")
        if self.was is not None:
            was = self.was.model_dump(mode="json")
            if was not in pattern:
                name = midi_to_name(self.was.pitch)
                raise InvalidEdit(f"there is no {name} at {_place(data, self.was.start_beats)} any more")
            pattern.remove(was)
        if self.now is not None:
            now = self.now.model_dump(mode="json")
            if data["pattern_bars"]:  # a note put where the pattern is repeated belongs into its first round
                now["start_beats"] %= data["pattern_bars"] * data["beats_per_bar"]
            pattern.append(now)
            pattern.sort(key=lambda note: (note["start_beats"], note["pitch"]))

    def title(self, before: Stack, after: Stack) -> str:
        of = f" of {layer_name(self.layer, before)}" if self.layer else ""
        if self.now is None:
            return f"Remove a note{of}"
        return f"{'Note to' if self.was else 'Add'} {midi_to_name(self.now.pitch)}{of}"


class ReplaceHit(Edit):
    """Adds (`was` is null), moves, or removes (`now` is null) a hit of the kick or of a trigger."""

    op: Literal["hit"] = "hit"
    trigger: str = "kick"
    was: float | None = None
    now: float | None = Field(default=None, ge=0.0, le=1024.0)

    def alter(self, data: Data) -> None:
        holder = drum_of(data, self.trigger)
        hits = list(holder["hits"])
        if self.was is not None:
            if self.was not in hits:
                raise InvalidEdit(f"there is no hit at {_place(data, self.was)} any more")
            hits.remove(self.was)
        if self.now is not None:
            hits.append(self.now)
        holder["hits"] = sorted(set(hits))

    def title(self, before: Stack, after: Stack) -> str:
        if self.now is None:
            return "Remove a hit"
        place = bar_and_beat(self.now, after.beats_per_bar)
        return f"Hit to {place}" if self.was is not None else f"Add a hit at {place}"


def recordings(stack: Stack) -> tuple[Layer, ...]:
    """The layers whose sound is recorded: it does not follow the notes."""
    return tuple(x for x in stack.layers if not x.source.plays_notes and x.source.follows() is None)


class TransposePattern(Edit):
    """Moves all notes by semitones, those of single layers and of sections too, and the key with them.

    With `pitches` it moves only the notes of these, and the key stays. What is recorded cannot be moved; so where there
    are recordings, only octaves are taken.
    """

    op: Literal["transpose"] = "transpose"
    semitones: int = Field(ge=-48, le=48)
    pitches: tuple[int, ...] = Field(default=(), max_length=128)

    def meant(self, stack: Stack) -> TransposePattern:
        recorded = recordings(stack)
        if recorded and self.semitones % 12:
            raise InvalidEdit(
                f"not transposed: '{recorded[0].name}' is a recording and stays at its pitch; only octaves fit it"
            )
        return self

    def alter(self, data: Data) -> None:
        own = [layer["notes"] for layer in data["layers"]] + [section["notes"] for section in data["sections"]]
        for notes in (data["pattern"], *[each for each in own if each is not None]):
            for note in notes:
                note["pitch"] = self._moved(note["pitch"])
        for layer in data["layers"]:
            levels = layer["note_levels_db"].items()
            layer["note_levels_db"] = {str(self._moved(int(pitch))): level for pitch, level in levels}
        if not self.pitches:
            data["key"] = shifted_key(data["key"], self.semitones)

    def _moved(self, pitch: int) -> int:
        return pitch + self.semitones if not self.pitches or pitch in self.pitches else pitch

    def title(self, before: Stack, after: Stack) -> str:
        if not self.pitches:
            return f"Transpose by {self.semitones:+d} semitones, to {after.key}".replace("-", "−")
        names = ", ".join(midi_to_name(pitch) for pitch in self.pitches)
        octaves = {12: "an octave up", -12: "an octave down"}
        return f"{names} {octaves.get(self.semitones, f'by {self.semitones:+d} semitones')}".replace("-", "−")


class SetBars(Edit):
    """Sets the length of the loop.

    Bars that are added repeat what is there, notes, hits and recordings, unless they are to be empty. What was there
    already, behind the old end, stays.
    """

    of_the_whole: ClassVar[bool] = True

    op: Literal["set-bars"] = "set-bars"
    bars: int = Field(ge=1, le=MOST_BARS)
    empty: bool = False
    """Whether bars that are added are left empty."""

    def alter(self, data: Data) -> None:
        was, now = (float(bars * data["beats_per_bar"]) for bars in (data["bars"], self.bars))
        bars, data["bars"] = data["bars"], self.bars
        data["sections"] = [each for each in data["sections"] if each["first_bar"] <= self.bars]
        for section in data["sections"]:
            section["last_bar"] = min(section["last_bar"], self.bars)
        if now <= was:
            return
        if self.empty:
            if data["pattern_bars"] and data["pattern_bars"] < bars:
                raise InvalidEdit(
                    f"not changed: the pattern repeats every {data['pattern_bars']} bars, in those that are added too; "
                    "give it the length of the piece first"
                )
            data["pattern_bars"] = 0
            return
        notes = [data["pattern"], *[layer["notes"] for layer in data["layers"] if layer["notes"] is not None]]
        if (
            not data["pattern_bars"]
            and any(notes)
            and all(note["start_beats"] < was for each in notes for note in each)
        ):
            data["pattern_bars"] = bars
        for layer in data["layers"]:
            source = layer["source"]
            if source["kind"] == "take" and not source.get("every_beats") and source["start_beats"] < was:
                source["every_beats"] = was
        for drum in (data["kick"], *data["triggers"]):
            round_of = [hit for hit in drum["hits"] if hit < was]
            if len(round_of) < len(drum["hits"]):
                continue  # it was longer before
            again = range(1, math.ceil(now / was))
            drum["hits"] += [hit + n * was for n in again for hit in round_of if hit + n * was < now]

    def title(self, before: Stack, after: Stack) -> str:
        return f"Length: {self.bars} bar{'' if self.bars == 1 else 's'}"

    def remark(self, before: Stack, after: Stack) -> str | None:
        gone = [each.name for each in before.sections if find(after, f"sections/{each.id}") is None]
        return f"{' and '.join(gone)} lay behind the new end and went with it." if gone else None


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

    def title(self, before: Stack, after: Stack) -> str:
        return f"Pattern of {len(self.notes)} notes"
