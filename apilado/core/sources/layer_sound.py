"""Source: another layer's sound, its raw source or what its treatments and EQ made of it."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from apilado.core.parameters import choice, reference
from apilado.core.sources.base import Source
from apilado.errors import InvalidEdit


class LayerSound(Source):
    """Follows its parent: a change there is heard here. Resolved by the graph, so it has no `render` of its own."""

    label: ClassVar[str] = "Another layer"

    kind: Literal["layer"] = "layer"
    layer: Annotated[str, reference(among="layers", label="Layer")] = ""
    tap: Annotated[Literal["source", "treated"], choice(label="Taken")] = "source"

    def follows(self, *, treated: bool = True) -> str | None:
        return self.layer if treated or self.tap == "source" else None

    @classmethod
    def beginning(cls, stack: Any, layer: Any) -> dict[str, Any]:
        for other in stack.layers:
            if layer.id not in _roots(stack, other):
                return {"layer": other.id}
        raise InvalidEdit("there is no other layer whose sound this one could take")


def _roots(stack: Any, layer: Any) -> list[str]:
    """A layer's id, and those of all that its sound comes from."""
    found = [layer.id]
    while (followed := layer.source.follows()) is not None:
        layer = stack.layer(followed)
        found.append(layer.id)
    return found
