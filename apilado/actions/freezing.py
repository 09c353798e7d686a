"""Use case: frozen layers are thawed when what they are made of is changed."""

from __future__ import annotations

from apilado.core.assets import AssetLoader
from apilado.core.document.stack import Stack
from apilado.core.render.builder import Builder
from apilado.core.render.freezing import still_of, thawed
from apilado.core.render.graph import clock_of


def thaw_changed(stack: Stack, load: AssetLoader) -> tuple[Stack, tuple[str, ...]]:
    """(the stack without what is frozen and no longer what it would be rendered to, the names of those layers)."""
    names = []
    builders = {
        rate: Builder(stack, clock_of(stack, looped=True, rate_hz=rate), load)
        for rate in {kept.rate_hz for layer in stack.layers for kept in layer.frozen}
    }
    for layer in stack.layers:
        if layer.frozen and not all(still_of(builders[kept.rate_hz], layer) for kept in layer.frozen):
            stack = thawed(stack, layer.id)
            names.append(layer.name)
    return stack, tuple(names)


def thawed_in_words(names: tuple[str, ...]) -> str:
    """What is told when layers were thawed; '' where none was."""
    if not names:
        return ""
    said = ", ".join(f"‘{name}’" for name in names)
    return f"{said} {'is' if len(names) == 1 else 'are'} thawed: what it is made of was changed."
