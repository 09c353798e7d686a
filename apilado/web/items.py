"""Single things in the drawings: notes, hits, EQ points and crossovers, named by keys that page and server share."""

from __future__ import annotations

from apilado.core.document.editing import Edit
from apilado.core.document.edits_pattern import ReplaceHit, ReplaceNote
from apilado.core.document.stack import Stack
from apilado.core.notes import Note

FIRST_BEAT = 1.0
"""Pages count beats from 1, as musicians do; a document holds how many have gone by."""


def counted(beats: float) -> float:
    """The beat that a page names for so many beats after the start."""
    return round(beats + FIRST_BEAT, 6)


def note_key(note: Note) -> str:
    """The key of a note of the pattern."""
    return f"note:{note.start_beats:g}:{note.pitch}"


def hit_key(drum: str, beat: float) -> str:
    """The key of a hit of the kick or of a trigger."""
    return f"hit:{drum}:{beat:g}"


def point_key(path: str) -> str:
    """The key of the EQ point at a path."""
    return f"point:{path}"


def crossover_key(crossover_id: str) -> str:
    """The key of a crossover."""
    return f"crossover:{crossover_id}"


def note_of(stack: Stack, key: str) -> Note | None:
    """The note with a key, if it is still there."""
    return next((note for note in stack.pattern if note_key(note) == key), None)


def hit_of(stack: Stack, key: str) -> tuple[str, float] | None:
    """(drum, beat) of the hit with a key, if it is still there."""
    drums = {name: stack.drum(name).hits for name in stack.drum_names()}
    return next(((name, hit) for name, hits in drums.items() for hit in hits if hit_key(name, hit) == key), None)


def item_after(edit: Edit) -> str | None:
    """What is chosen after an edit that adds or moves a note or a hit; '' after one that removes it."""
    if isinstance(edit, ReplaceNote):
        return "" if edit.now is None else note_key(edit.now)
    if isinstance(edit, ReplaceHit):
        return "" if edit.now is None else hit_key(edit.trigger, edit.now)
    return None
