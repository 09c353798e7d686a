"""The sheet of a layer: its path, a line for each step."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from apilado.core.document.addresses import find, joined
from apilado.core.document.equaliser import POINTS
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.parameters import PartList, part_lists_of
from apilado.core.render.playing import source_root
from apilado.core.sources.registry import SOURCES
from apilado.web.sheets.base import AUDIO_ACCEPT, Action, Add, Line, Section, choice_field, fields_of, menu_field
from apilado.web.sheets.ducks import share_fields
from apilado.web.sheets.movements import movement_lines, place_words
from apilado.web.sheets.parts import chain_copies, part_list, part_section
from apilado.web.sheets.sends import first_send, send_lines

PLACE = ("level_db", "width", "pan", "mono", "mono_below_hz", "polarity", "delay_ms")
FIRST_OF_PLACE = 4


def layer_sections(stack: Stack, layer: Layer) -> tuple[Section, ...]:
    """Everything of a layer."""
    path = f"layers/{layer.id}"
    return (
        _head(stack, layer, path),
        source_section(stack, layer, path),
        *path_lines(stack, path),
        place_section(stack, layer, path),
        *_duck_section(stack, layer, path),
        *send_lines(stack, path),
        *movement_lines(stack, path),
        adding(stack, path),
    )


def _head(stack: Stack, layer: Layer, path: str) -> Section:
    clear = {"op": "set", "path": f"{path}/note_levels_db", "value": {}}
    return Section(
        layer.name,
        fields_of(layer, path, "name", "tint"),
        (
            Action("Copy layer", {"op": "add-layer", "copy_of": layer.id}),
            Action("Bounce …", bounce=layer.id),
            _freezing(layer, path),
            Action("Keep in the Quarry", keeps="layer", within=path),
            Action("Keep its chain", keeps="chain", within=path),
            *_merges(stack, layer),
            *((Action("Clear note levels", clear),) if layer.note_levels_db else ()),
            *_note_actions(stack, layer, path),
            Action("Remove layer", {"op": "remove-layer", "layer": layer.id}, danger=True),
        ),
        chain_copies(stack, joined(path, "path")),
        note=" ".join(each for each in (_frozen_said(layer), _note_levels(layer)) if each),
        key=path,
        line=Line(path),
    )


def _freezing(layer: Layer, path: str) -> Action:
    """Keeping its source and path as audio, or rendering them again."""
    if not layer.frozen:
        return Action("Freeze", job="freeze", wanted={"layer": layer.id})
    change = {"op": "set", "path": f"{path}/frozen", "value": []}
    return Action("Thaw", {"op": "several", "name": f"Thaw {layer.name}", "edits": [change]})


def _frozen_said(layer: Layer) -> str:
    rates = ", ".join(f"{kept.rate_hz} Hz" for kept in layer.frozen)
    return f"Frozen at {rates}: source and path are kept as audio. Changing them thaws it." if rates else ""


def _note_levels(layer: Layer) -> str:
    if not layer.note_levels_db:
        return ""
    levels = layer.note_levels_db.values()
    return f"{len(layer.note_levels_db)} pitches have levels of their own, {min(levels):+.1f} to {max(levels):+.1f} dB."


def _note_actions(stack: Stack, layer: Layer, path: str) -> tuple[Action, ...]:
    """Taking notes of its own, or playing the pattern again; a layer that takes another's sound plays that one's."""
    if not layer.source.plays_notes or layer.source.follows() is not None:
        return ()
    if layer.notes is None:
        notes = [note.model_dump(mode="json") for note in stack.pattern]
        return (Action("Notes of its own", {"op": "set", "path": f"{path}/notes", "value": notes}),)
    return (Action("Play the pattern again", {"op": "set", "path": f"{path}/notes", "value": None}),)


def source_section(stack: Stack, layer: Layer, path: str) -> Section:
    """What it sounds with, and the voice that plays it."""
    source, here = layer.source, f"{path}/source"
    kinds = [(model.model_fields["kind"].default, model.label) for model in SOURCES]
    own = part_section(stack, source, here, "Source", without=("file_name",))
    followed = stack.layer(source.follows() or "")
    words = own.line.words if own.line else ""
    if followed is not None:
        words = f"{followed.name}, {'as its source' if source.follows(treated=False) else 'treated'}"
    # Of a source that says what matters first, that is shown at once.
    leading = own.fields if type(source).leading else ()
    file_name = getattr(source, "file_name", "")
    shift = fields_of(layer, path, "transpose") if source.plays_notes and followed is None else ()
    audio = Action("Use an audio file", upload=f"layers/{layer.id}", accept=AUDIO_ACCEPT)
    return replace(
        own,
        fields=(choice_field(f"{here}/kind", "Kind", source.kind, kinds), *leading),
        rest=(*shift, *(each for each in own.fields if each not in leading), *own.rest),
        actions=(*own.actions, audio, *_finding(layer, path)),
        children=(*own.children, *voice_section(stack, layer, path)),
        note=f"File: {file_name}" if file_name else own.note,
        line=Line(here, words, own.line.sketch if own.line else None, measured=True),
    )


FINDS = {"root": "Find its root", "slices": "Slice at beginnings", "notes": "Read its notes"}


def _finding(layer: Layer, path: str) -> tuple[Action, ...]:
    """What can be looked for in the sound of a layer's source."""
    return tuple(Action(FINDS[what], find=what, within=path) for what in layer.source.finds)


def voice_section(stack: Stack, layer: Layer, path: str) -> tuple[Section, ...]:
    """Its own voice, or the word that it plays with the stack's."""
    if not layer.source.plays_notes or layer.source.follows() is not None:
        return ()
    here = f"{path}/voice"
    if layer.voice is None:
        own = Action("A voice of its own", {"op": "set", "path": here, "value": stack.voice.model_dump(mode="json")})
        said = "It plays with the voice of the stack, as set under Piece."
        return (Section("Voice", (), (own,), line=Line(here, "as the stack"), note=said, key=here),)
    back = Action("Play with the stack's voice", {"op": "set", "path": here, "value": None})
    section = part_section(stack, layer.voice, here, "Voice")
    value = layer.voice.model_dump(mode="json")
    others = [
        ({"op": "set", "path": f"layers/{other.id}/voice", "value": value}, other.name, other.voice == layer.voice)
        for other in stack.layers
        if other is not layer and other.source.plays_notes and other.source.follows() is None
    ]
    copy = (menu_field(joined(here, "copy"), "Copy to", others),) if others else ()
    return (replace(section, actions=(*section.actions, back), rest=(*section.rest, *copy)),)


def path_lines(stack: Stack, owner: str) -> tuple[Section, ...]:
    """The steps of a layer or a bus, in the order in which the sound goes through them."""
    return part_list(stack, *_path_of(stack, owner))[0]


def adding(stack: Stack, owner: str) -> Section:
    """What can be added to a path: steps, and points of its EQ."""
    holder, _, listed = _path_of(stack, owner)
    _, adds = part_list(stack, holder, owner, listed)
    points = tuple(
        Add(point.label, "EQ points", point.explains, {"op": "add-point", "to": owner, "point": point.begins()})
        for point in POINTS
    )
    return Section("Add", adds=(*adds, *points), adds_title="Add a step, or an EQ point", key=joined(owner, "add"))


def _path_of(stack: Stack, owner: str) -> tuple[Any, str, PartList]:
    holder = find(stack, owner)
    (listed,) = [each for each in part_lists_of(type(holder)) if each.name == "path"]
    return holder, owner, listed


def place_section(stack: Stack, layer: Layer, path: str) -> Section:
    """Where it stands: level, width, pan and what follows from them."""
    fields = fields_of(layer, path, *PLACE)
    here = joined(path, "place")
    return Section(
        "Place",
        fields[:FIRST_OF_PLACE],
        rest=(*fields[FIRST_OF_PLACE:], *first_send(stack, path)),
        key=here,
        line=Line(here, place_words(layer), measured=True),
    )


def _duck_section(stack: Stack, layer: Layer, path: str) -> tuple[Section, ...]:
    """How much of each duck it takes."""
    fields = share_fields(stack, layer)
    if not fields:
        return ()
    here = joined(path, "duck")
    words = ", ".join(f"{ducker.name} {100.0 * ducker.amount(layer.id):.0f} %" for ducker in stack.duckers if ducker.on)
    return (Section("Duck", fields, key=here, line=Line(here, words or "off", measured=True)),)


def _merges(stack: Stack, layer: Layer) -> tuple[Action, ...]:
    """Its upper neighbours of the same source, to be merged into it."""
    root = source_root(stack, layer).id
    return tuple(
        Action(f"Merge with {other.name}", {"op": "merge-layers", "layer": layer.id, "upper": other.id})
        for other in stack.layers
        if other.span.first == layer.span.last + 1 and source_root(stack, other).id == root
    )
