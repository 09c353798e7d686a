"""What becomes of the layers that take another's sound when that sound changes."""

from __future__ import annotations

from typing import Any

from apilado.core.document.layer import Layer
from apilado.core.document.naming import layer_name
from apilado.core.document.stack import Stack


def followers_of(stack: Stack, layer: Layer) -> tuple[Layer, ...]:
    """The layers that take a layer's sound before its treatments: they could play that sound without it."""
    return tuple(other for other in stack.layers if other.source.follows(treated=False) == layer.id)


def followers_said(stack: Stack, layer_id: str) -> str | None:
    """That other layers take a layer's new sound too, in a sentence; None where none does."""
    followers = [layer.name for layer in stack.layers if layer.source.follows() == layer_id]
    if not followers:
        return None
    verb = "take" if len(followers) > 1 else "takes"
    name = layer_name(layer_id, stack)
    return f"{' and '.join(followers)} {verb} the new sound too: {name} is where the sound comes from."


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
