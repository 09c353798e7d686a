"""Who plays what: the notes and the voice that a layer sounds with, and where its sound begins."""

from __future__ import annotations

from typing import cast

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.notes import Note, lowest_first
from apilado.core.sources.base import Score
from apilado.core.sources.voice import Voice
from apilado.core.units import midi_to_hz


def root_of(stack: Stack, layer: Layer) -> Layer:
    """The layer that a layer's sound begins with: itself, or by way of those whose sound it takes, treated or not."""
    while (followed := layer.source.follows()) is not None:
        layer = cast(Layer, stack.layer(followed))
    return layer


def layer_notes(stack: Stack, layer: Layer) -> tuple[Note, ...]:
    """The notes a layer sounds with: of the layer that its sound begins with, that one's own or the stack's; as its
    voice gives them."""
    played = stack.played(root_of(stack, layer).notes)
    return lowest_first(played) if voice_of(stack, layer).gives == "lowest" else played


def voice_of(stack: Stack, layer: Layer) -> Voice:
    """The voice that plays a layer's notes: of the layer that its sound begins with, that one's own or the stack's."""
    return root_of(stack, layer).voice or stack.voice


def score_of(stack: Stack, layer: Layer) -> Score:
    """What the source of a layer plays from; a source that plays no notes has none."""
    plays = layer.source.plays_notes
    return Score(
        notes=layer_notes(stack, layer) if plays else (),
        transpose=layer.transpose if plays else 0,
        seed=stack.seed,
        voice=voice_of(stack, layer),
        chance=stack.chance,
    )


def expected_hz(stack: Stack, layer: Layer, pitch: int) -> float:
    """The fundamental that a layer makes of a pitch of the pattern, as its source says."""
    root = root_of(stack, layer)
    shift = root.transpose + root.source.shift_st() if root.source.plays_notes else 0.0
    return float(midi_to_hz(float(pitch + shift))) * root.source.lowest_ratio()


def source_root(stack: Stack, layer: Layer) -> Layer:
    """The layer whose raw source this layer sounds with; itself unless it takes another's source untreated."""
    while (followed := layer.source.follows(treated=False)) is not None:
        layer = cast(Layer, stack.layer(followed))
    return layer
