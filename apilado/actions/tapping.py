"""Use case: one note of a layer, or of the whole stack, through everything that its sound goes through."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from apilado.actions.workspace import Workspace
from apilado.core.clock import Clock
from apilado.core.document.stack import MOST_BARS, Stack
from apilado.core.dsp.audio import Audio
from apilado.core.notes import Note
from apilado.core.render.audition import Audition
from apilado.core.render.engine import Token
from apilado.core.render.graph import build
from apilado.core.render.playing import source_root
from apilado.core.render.stage import Stage
from apilado.errors import InvalidEdit

LONGEST_S = 6.0
"""A note is held no longer."""


def tapped_stack(stack: Stack, pitch: int, velocity: int, layer_id: str, *, held_s: float = LONGEST_S) -> Stack:
    """A stack that plays one note and nothing else: no hits, no sections, no recordings but that of the layer.

    Raises:
        InvalidEdit: there is nothing in it that plays notes.
    """
    beats = held_s * stack.tempo_bpm / 60.0
    note = Note(start_beats=0.0, length_beats=beats, pitch=pitch, velocity=velocity)
    if layer_id and stack.layer(layer_id) is None:
        raise InvalidEdit(f"there is no layer '{layer_id[:40]}' to be tapped")
    heard = [
        layer
        for layer in stack.layers
        if layer.id == layer_id or (not layer_id and source_root(stack, layer).source.plays_notes)
    ]
    if not heard:
        raise InvalidEdit("nothing in this stack plays notes: there is nothing to tap")
    names = {layer.id for layer in heard}
    # The others stay where they are, unheard: what is heard may take their sound.
    layers = tuple(
        layer.model_copy(update={"notes": None, "mute": layer.id not in names or (layer.mute and not layer_id)})
        for layer in stack.layers
    )
    quiet = {"hits": ()}
    return stack.model_copy(
        update={
            "pattern": (note,),
            "pattern_bars": 0,
            "bars": min(MOST_BARS, max(1, math.ceil(beats / stack.beats_per_bar))),
            "sections": (),
            "movements": tuple(each for each in stack.movements if each.begins != "section"),
            "layers": layers,
            "kick": stack.kick.model_copy(update=quiet),
            "triggers": tuple(each.model_copy(update=quiet) for each in stack.triggers),
        }
    )


def tap(
    workspace: Workspace,
    stack_id: int,
    stack: Stack,
    *,
    pitch: int,
    velocity: int = 100,
    layer_id: str = "",
    seconds: float = LONGEST_S,
    token: Token | None = None,
) -> Audio:
    """The first seconds of a note that is held, shape (2, frames).

    What is measured of the whole loop, such as a level that is kept, is as in the loop that was heard last.

    Raises:
        InvalidEdit: nothing that is there could be tapped.
        Overtaken: something newer is to be heard.
    """
    alone = tapped_stack(stack, pitch, velocity, layer_id)
    beats = min(max(seconds, 0.01), LONGEST_S) * stack.tempo_bpm / 60.0
    clock = Clock(stack.tempo_bpm, beats, stack.sample_rate, looped=False, whole_beats=stack.beats)
    before = workspace.heard.get(stack_id)
    known: Mapping[str, Stage] = before.graph.measured if before is not None else {}
    audition = Audition(alone=(f"layers/{layer_id}",)) if layer_id else Audition()
    graph = build(alone, clock, workspace.load, audition, known=known)
    found: list[Any] = workspace.engine.run([graph.output], token)
    return found[0]


def release_ms_of(stack: Stack, layer_id: str) -> float:
    """How long a note takes to end when it is let go."""
    layer = stack.layer(layer_id) if layer_id else None
    voice = layer.voice if layer is not None and layer.voice is not None else stack.voice
    return voice.envelope.release_ms
