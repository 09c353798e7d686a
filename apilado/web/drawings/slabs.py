"""Where the layers' slabs stand in a Pile: on its middle line, or beside each other where they share a band."""

from __future__ import annotations

from apilado.core.document.stack import Stack


def columns(stack: Stack) -> dict[str, tuple[int, int]]:
    """(column, how many there are) for each layer: those that share a band, or share one with the same, share them."""
    placed: dict[str, int] = {}
    groups: list[list[str]] = []
    spans = {layer.id: layer.span for layer in stack.layers}

    def meet(one: str, other: str) -> bool:
        return spans[one].first <= spans[other].last and spans[other].first <= spans[one].last

    for name in sorted(spans, key=lambda name: (spans[name].first, spans[name].last)):
        touching = [group for group in groups if any(meet(name, other) for other in group)]
        taken = {placed[other] for group in touching for other in group if meet(name, other)}
        placed[name] = next(column for column in range(len(spans)) if column not in taken)
        groups = [group for group in groups if group not in touching]
        groups.append([name, *[other for group in touching for other in group]])
    counts = {name: 1 + max(placed[other] for other in group) for group in groups for name in group}
    return {name: (placed[name], counts[name]) for name in spans}


def standing(column: tuple[int, int], width: float, edge: float) -> tuple[float, float]:
    """(middle line, widest half) of a slab in its column of a Pile so wide, `edge` from its neighbours."""
    place, count = column
    each = width / count
    return each * (place + 0.5), each / 2.0 - (edge if count == 1 else edge / 2.0)
