"""Frozen layers: their source and path as audio that was kept, as long as it is what they would be rendered to.

A frozen sound carries the print of all that it was made of: the key of the layer's stage in the loop. Where the stack
has changed so that this is another one, the frozen sound is passed over and the layer is rendered: what is heard is
always the document's.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.addresses import within
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.render.passed import Passed
from apilado.core.render.stage import Stage, stage

if TYPE_CHECKING:
    from apilado.core.render.builder import Builder


def frozen_sound(*, asset: str, clock: Clock, load: AssetLoader) -> Audio:
    """The kept sound of a layer over the whole clock: a loop, a stretch of its repetition, or a single pass."""
    audio = load(asset, clock.rate_hz)
    if clock.begins is not None:
        return np.ascontiguousarray(audio[:, clock.around()])
    missing = clock.frames - audio.shape[1]
    return np.pad(audio, ((0, 0), (0, missing))) if missing > 0 else np.ascontiguousarray(audio[:, : clock.frames])


def print_of(builder: Builder, layer: Layer) -> str:
    """The print of all that a layer's source and path are made of, whatever the extent, and whatever else is frozen."""
    return builder.thawed_loop().live(layer).key.hex()


def frozen(builder: Builder, layer: Layer) -> Stage | None:
    """The stage of a layer's frozen sound; None where it has none that is still what it would be rendered to."""
    clock = builder.clock
    kept = next((each for each in layer.frozen if each.rate_hz == clock.rate_hz), None)
    if kept is None or clock.begins is not None or kept.of != print_of(builder, layer):
        return None
    asset = kept.loop if clock.looped else kept.one_pass
    return stage(frozen_sound, asset=asset, clock=clock, context={"load": builder.load})


def still_of(builder: Builder, layer: Layer) -> bool:
    """Whether what is kept of a frozen layer is what it would be rendered to now, at the rate of a builder."""
    found = [each for each in layer.frozen if each.rate_hz == builder.clock.rate_hz]
    return all(each.of == print_of(builder, layer) for each in found)


def rendered(builder: Builder) -> dict[str, Passed]:
    """What is passed by address, without what lies in layers that are frozen."""
    owners = [f"layers/{name}" for name in builder.frozen]
    return {each: made for each, made in builder.passed.items() if not any(within(each, own) for own in owners)}


def thawed(stack: Stack, layer_id: str) -> Stack:
    """The stack with a layer rendered again."""
    layers = tuple(each.model_copy(update={"frozen": ()}) if each.id == layer_id else each for each in stack.layers)
    return stack.model_copy(update={"layers": layers})


def all_thawed(stack: Stack) -> Stack:
    """The stack with every layer rendered; itself where none is frozen."""
    for layer in stack.layers:
        stack = thawed(stack, layer.id) if layer.frozen else stack
    return stack


def loop_of(clock: Clock) -> Clock:
    """The loop of a single pass; a loop itself."""
    return clock if clock.looped else replace(clock, looped=True, tail_seconds=0.0)
