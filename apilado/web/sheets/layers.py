"""The sheet of a layer."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from apilado.core.document.addresses import find
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.parameters import part_lists_of
from apilado.core.render.builder import source_root
from apilado.core.sources.registry import SOURCES
from apilado.web.sheets.base import (
    AUDIO_ACCEPT,
    Action,
    Section,
    choice_field,
    fields_of,
    menu_field,
)
from apilado.web.sheets.ducks import share_fields
from apilado.web.sheets.parts import part_list, part_section
from apilado.web.sheets.piece import band_names


def layer_sections(stack: Stack, layer: Layer) -> tuple[Section, ...]:
    """Everything of a layer."""
    path = f"layers/{layer.id}"
    return (
        Section(
            "Place", fields_of(layer, path, "level_db", "width", "pan", "mono", "mono_below_hz", "polarity", "delay_ms")
        ),
        _band_section(stack, layer, path),
        _source_section(stack, layer, path),
        *_voice_section(stack, layer, path),
        path_section(stack, path),
        Section("Duck", share_fields(stack, layer)),
        Section(
            "Layer",
            fields_of(layer, path, "name", "tint", "transpose"),
            (
                Action("Copy layer", {"op": "add-layer", "copy_of": layer.id}),
                *_merges(stack, layer),
                Action("Remove layer", {"op": "remove-layer", "layer": layer.id}, danger=True),
                *(
                    (Action("Clear note levels", {"op": "set", "path": f"{path}/note_levels_db", "value": {}}),)
                    if layer.note_levels_db
                    else ()
                ),
            ),
            note=_note_levels(layer),
        ),
    )


def _note_levels(layer: Layer) -> str:
    if not layer.note_levels_db:
        return ""
    levels = layer.note_levels_db.values()
    return f"{len(layer.note_levels_db)} pitches have levels of their own, {min(levels):+.1f} to {max(levels):+.1f} dB."


def _band_section(stack: Stack, layer: Layer, path: str) -> Section:
    names = band_names(stack)
    options: list[tuple[dict[str, Any], str, bool]] = [
        (
            {"op": "set", "path": f"{path}/span", "value": {"first": first, "last": last}},
            names[first] if first == last else f"{names[first].split('–')[0]}–{names[last].split('–')[1]}",
            (first, last) == (layer.span.first, layer.span.last),
        )
        for first in range(len(names))
        for last in range(first, len(names))
    ]
    return Section("Band", (menu_field(f"{path}/span", "Band", options),))


def _source_section(stack: Stack, layer: Layer, path: str) -> Section:
    source = layer.source
    kinds = [(model.model_fields["kind"].default, model.label) for model in SOURCES]
    own = part_section(stack, source, f"{path}/source", "Source", without=("file_name",))
    file_name = getattr(source, "file_name", "")
    return replace(
        own,
        fields=(choice_field(f"{path}/source/kind", "Source", source.kind, kinds), *own.fields),
        actions=(Action("Use an audio file", upload=f"layers/{layer.id}", accept=AUDIO_ACCEPT), *own.actions),
        note=f"File: {file_name}" if file_name else own.note,
    )


def _voice_section(stack: Stack, layer: Layer, path: str) -> tuple[Section, ...]:
    """Its own voice, or the word that it plays with the stack's."""
    if not layer.source.plays_notes or layer.source.follows() is not None:
        return ()
    here = f"{path}/voice"
    if layer.voice is None:
        own = Action("A voice of its own", {"op": "set", "path": here, "value": stack.voice.model_dump(mode="json")})
        return (Section("Voice", (), (own,), note="It plays with the voice of the stack, as set under Piece."),)
    back = Action("Play with the stack's voice", {"op": "set", "path": here, "value": None})
    section = part_section(stack, layer.voice, here, "Voice")
    return (replace(section, actions=(*section.actions, back)),)


def path_section(stack: Stack, owner: str) -> Section:
    """The steps of a layer or a bus, in the order in which the sound goes through them; and what can be added."""
    holder = find(stack, owner)
    (listed,) = [each for each in part_lists_of(type(holder)) if each.name == "path"]
    children, adds = part_list(stack, holder, owner, listed)
    return Section("Path", (), adds, children=children)


def _merges(stack: Stack, layer: Layer) -> tuple[Action, ...]:
    """Its upper neighbours of the same source, to be merged into it."""
    root = source_root(stack, layer).id
    return tuple(
        Action(f"Merge with {other.name}", {"op": "merge-layers", "layer": layer.id, "upper": other.id})
        for other in stack.layers
        if other.span.first == layer.span.last + 1 and source_root(stack, other).id == root
    )
