"""What becomes of the layers that take another's sound when that sound changes."""

from __future__ import annotations

from typing import Any

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.sources.layer_sound import LayerSound


def followers_of(stack: Stack, layer: Layer) -> tuple[Layer, ...]:
    """The layers that take a layer's sound before its treatments: they could play that sound without it."""
    return tuple(
        other
        for other in stack.layers
        if isinstance(other.source, LayerSound) and other.source.layer == layer.id and other.source.tap == "source"
    )


def pass_sound_on(layers: list[dict[str, Any]], layer_id: str) -> None:
    """Gives the source of a layer, which is to play something else, to the first of those that take it; the others take
    it from there. They play on what they played."""
    source = next(layer["source"] for layer in layers if layer["id"] == layer_id)
    followers = [
        layer
        for layer in layers
        if layer["source"]["kind"] == "layer"
        and layer["source"]["layer"] == layer_id
        and layer["source"].get("tap", "source") == "source"
    ]
    for follower in followers:
        first = follower is followers[0]
        follower["source"] = source if first else {**follower["source"], "layer": followers[0]["id"]}
