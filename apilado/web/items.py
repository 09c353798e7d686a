"""Single things in the drawings: notes, hits, EQ points and crossovers, named by keys that page and server share."""

from __future__ import annotations

from apilado.core.document.addresses import content_of, find, joined, parted, parts_of, renamed
from apilado.core.document.editing import Edit
from apilado.core.document.edits_pattern import ReplaceHit, ReplaceNote
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement
from apilado.core.document.stack import Stack
from apilado.core.notes import Note


def note_key(note: Note, layer: str = "") -> str:
    """The key of a note of the pattern, or of a layer's own notes."""
    return f"note:{f'{layer}:' if layer else ''}{note.start_beats:g}:{note.pitch}"


def hit_key(drum: str, beat: float) -> str:
    """The key of a hit of the kick or of a trigger."""
    return f"hit:{drum}:{beat:g}"


def point_key(path: str) -> str:
    """The key of the EQ point at a path."""
    return f"point:{path}"


def band_key(address: str) -> str:
    """The key of a band of a step, by its address."""
    return f"band:{address}"


def crossover_key(crossover_id: str) -> str:
    """The key of a crossover."""
    return f"crossover:{crossover_id}"


def note_of(stack: Stack, key: str) -> tuple[str, Note] | None:
    """(the layer whose own it is, or '' for one of the pattern, the note with a key), if it is still there."""
    lists = [("", stack.pattern), *((layer.id, layer.notes or ()) for layer in stack.layers)]
    return next(((name, note) for name, notes in lists for note in notes if note_key(note, name) == key), None)


def notes_layer(stack: Stack, selected: str) -> Layer | None:
    """The layer whose own notes are edited while something is selected; None while those of the stack are."""
    kind, _, name = selected.partition(":")
    layer = stack.layer(name) if kind == "layer" else None
    return layer if layer is not None and layer.notes is not None else None


def hit_of(stack: Stack, key: str) -> tuple[str, float] | None:
    """(drum, beat) of the hit with a key, if it is still there."""
    drums = {name: stack.drum(name).hits for name in stack.drum_names()}
    return next(((name, hit) for name, hits in drums.items() for hit in hits if hit_key(name, hit) == key), None)


def course_key(movement_id: str, place: int) -> str:
    """The key of a point of the course of a movement."""
    return f"course:{movement_id}:{place}"


def course_item(stack: Stack, key: str) -> tuple[Movement, int] | None:
    """(movement, place) of the point of a course with a key, if it is still there."""
    return next(
        (
            (movement, place)
            for movement in stack.movements
            for place in range(len(getattr(movement.shape, "points", ())))
            if course_key(movement.id, place) == key
        ),
        None,
    )


def note_path(note: Note, layer: str = "") -> str:
    """The address of a note of the pattern, or of a layer's own."""
    return joined(f"layers/{layer}/notes" if layer else "pattern", content_of(note) or "")


def hit_path(stack: Stack, drum: str, beat: float) -> str:
    """The address of a hit of a drum."""
    return joined(stack.drum_owner(drum), "hits", content_of(beat) or "")


def moved_by(edit: Edit, before: Stack) -> dict[str, str]:
    """{the address of what is named by what it is: the one that an edit of its values has given it}, or nothing."""
    if not isinstance(edit, SetValue):
        return {}
    was, now = renamed(before, edit.path, edit.meant(before).value) or ("", "")
    return {} if was == now else {was: now}


def item_after(edit: Edit, before: Stack) -> str | None:
    """What is chosen after an edit that adds or moves a note or a hit; '' after one that removes it."""
    if isinstance(edit, ReplaceNote):
        return "" if edit.now is None else note_key(edit.now, edit.layer or "")
    if isinstance(edit, ReplaceHit):
        return "" if edit.now is None else hit_key(edit.trigger, edit.now)
    if not isinstance(edit, SetValue):
        return None
    holder, last = parted(edit.path)
    moved = find(before, holder)
    if isinstance(moved, Note):
        own = parts_of(holder)
        return note_key(moved.model_copy(update={last: edit.meant(before).value}), own[1] if own[0] == "layers" else "")
    owner, _ = parted(holder)
    drums = [name for name in before.drum_names() if before.drum_owner(name) == owner]
    return hit_key(drums[0], edit.meant(before).value) if drums and isinstance(find(before, edit.path), float) else None
