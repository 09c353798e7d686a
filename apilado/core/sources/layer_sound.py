"""Source: another layer's sound, its raw source or what its treatments and EQ made of it."""

from __future__ import annotations

from typing import ClassVar, Literal

from apilado.core.parameters import choice, text
from apilado.core.sources.base import Source


class LayerSound(Source):
    """Follows its parent: a change there is heard here. Resolved by the graph, so it has no `render` of its own."""

    label: ClassVar[str] = "Another layer"

    kind: Literal["layer"] = "layer"
    layer: str = text("", label="Layer", longest=40)
    tap: Literal["source", "treated"] = choice("source", label="Taken")
