"""Sections: runs of bars in which some things of a stack are otherwise.

A section changes values, notes and hits; it is the same stack with those set. What the time itself hangs on, and which
parts there are, is of the whole piece.
"""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from pydantic import Field, model_validator

from apilado.core.document.kick import ordered_hits
from apilado.core.notes import Note, cut_short, in_order
from apilado.core.parameters import Model, integer, parts, text
from apilado.core.parts import Part

MOST_SECTIONS, MOST_CHANGES, MOST_SECTION_BARS = 32, 128, 64
OF_THE_WHOLE = (
    "tempo_bpm",
    "beats_per_bar",
    "bars",
    "pattern_bars",
    "sample_rate",
    "seed",
    "chance",
    "name",
    "key",
    "target",
)
"""What no section changes."""


class Change(Part):
    """A value that is otherwise in a section."""

    path: str = Field(min_length=1, max_length=200, description="Address of the value, as layers/mid/mute")
    value: Any = None


class OtherHits(Model):
    """The hits of a drum in a section, counted from its first beat."""

    drum: str = Field(max_length=40, description="'kick' or the id of a trigger")
    hits: tuple[float, ...] = Field(default=(), max_length=1024)

    @model_validator(mode="after")
    def _ordered(self) -> OtherHits:
        ordered_hits(self.hits)
        return self


class PieceSection(Part):
    """A run of bars, both ends in it, and what is otherwise there."""

    label: ClassVar[str] = "Section"

    name: Annotated[str, text(label="Name", longest=40)] = "Section"
    first_bar: Annotated[int, integer(low=1, high=MOST_SECTION_BARS, label="From bar")] = 1
    last_bar: Annotated[int, integer(low=1, high=MOST_SECTION_BARS, label="To bar")] = 1
    changes: tuple[Change, ...] = parts("change", most=MOST_CHANGES)
    notes: tuple[Note, ...] | None = Field(
        default=None, max_length=4096, description="Its own notes, counted from its first beat; null plays the pattern"
    )
    hits: tuple[OtherHits, ...] = Field(default=(), max_length=9)

    @model_validator(mode="after")
    def _runs_upwards(self) -> PieceSection:
        if self.last_bar < self.first_bar:
            raise ValueError(f"a section runs upwards; '{self.name}' runs from bar {self.first_bar} to {self.last_bar}")
        if self.notes is not None and self.notes != in_order(self.notes):
            raise ValueError(f"the notes of section '{self.name}' are in order of their starts")
        return self

    def beats(self, beats_per_bar: int) -> tuple[float, float]:
        """(its first beat, the beat behind its last), counted from the piece's."""
        return float((self.first_bar - 1) * beats_per_bar), float(self.last_bar * beats_per_bar)


def sectioned_notes(
    notes: tuple[Note, ...], sections: tuple[PieceSection, ...], beats_per_bar: int
) -> tuple[Note, ...]:
    """The notes of a piece, in which sections that have notes of their own play these.

    What begins in such a section is its own; what reaches into it, or out of it, ends at its bar line.
    """
    for section in sections:
        if section.notes is None:
            continue
        first, last = section.beats(beats_per_bar)
        before = [cut_short(note, first) for note in notes if note.start_beats < first]
        inside = [note.model_copy(update={"start_beats": note.start_beats + first}) for note in section.notes]
        own = [cut_short(note, last) for note in inside if note.start_beats < last]
        notes = (*before, *own, *[note for note in notes if note.start_beats >= last])
    return notes


def sectioned_hits(
    drum: str, hits: tuple[float, ...], sections: tuple[PieceSection, ...], beats_per_bar: int
) -> tuple[float, ...]:
    """The hits of a drum over a piece, in which sections that have hits of their own for it play these."""
    for section in sections:
        for other in section.hits:
            if other.drum == drum:
                first, last = section.beats(beats_per_bar)
                own = [hit + first for hit in other.hits if hit + first < last]
                hits = (*[h for h in hits if h < first], *own, *[h for h in hits if h >= last])
    return hits
