"""The sheet of a backing track."""

from __future__ import annotations

from apilado.core.document.addresses import find, joined
from apilado.core.document.stack import Stack
from apilado.web.sheets.base import AUDIO_ACCEPT, Action, Section, fields_of


def backing_sections(stack: Stack, selected: str) -> tuple[Section, ...]:
    """A track that the bass is judged against."""
    owner = joined("backing", selected.partition(":")[2])
    track = find(stack, owner)
    sound = joined(owner, "sound")
    replace = Action("Use another file", upload=owner, accept=AUDIO_ACCEPT)
    remove = Action("Remove this track", {"op": "remove", "path": owner}, danger=True)
    return (
        Section(
            f"Backing: {track.name}",
            (*fields_of(track, owner), *fields_of(track.sound, sound, without=("file_name",))),
            (replace, remove),
            note=f"File: {track.sound.file_name}. It is heard with the stack, and in no stem, delivery or measurement "
            "of the bass.",
        ),
    )
