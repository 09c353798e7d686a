"""What becomes of the layers that take another's sound when that sound changes."""

from __future__ import annotations

from apilado.core.document.edits import AnyEdit, Several
from apilado.core.document.edits_layers import SetSource
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


def keeping_followers(stack: Stack, layer: Layer, change: SetSource) -> Several | None:
    """A change of a layer's source after which those that take its sound play what they played; None without any."""
    followers = followers_of(stack, layer)
    if not followers:
        return None
    first, *others = followers
    edits: list[AnyEdit] = [SetSource(layer=first.id, source=layer.source.model_dump(mode="json"))]
    edits += [SetSource(layer=other.id, source={"kind": "layer", "layer": first.id}) for other in others]
    return Several(name=f"New sound for {layer.name} alone"[:80], edits=(*edits, change))
