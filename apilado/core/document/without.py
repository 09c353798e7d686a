"""Without: a stack with some of its parts left out, to be heard against the whole or followed, and never kept."""

from __future__ import annotations

from typing import Any

from apilado.core.document.addresses import find, joined, replaced, within
from apilado.core.document.section import PieceSection
from apilado.core.document.stack import Stack
from apilado.errors import NotFound

SWITCHES = {"on": False, "mute": True}
"""How a part is switched off, by the name of its switch."""


def without(stack: Stack, path: str) -> Stack:
    """The stack with the part at an address left out, in all its bars: off, muted, or of a section what is otherwise.

    Raises:
        NotFound: there is no such part, or it cannot be left out.
    """
    part: Any = find(stack, path)
    if isinstance(part, PieceSection):
        return stack.model_copy(update={"sections": tuple(each for each in stack.sections if each is not part)})
    for name, value in SWITCHES.items():
        if name in getattr(type(part), "model_fields", {}):
            return replaced(_nowhere_otherwise(stack, joined(path, name)), joined(path, name), value)
    raise NotFound(f"there is nothing at '{path}' that could be left out")


def is_left_out(stack: Stack, path: str) -> bool:
    """Whether a part is off or muted as it stands, so that leaving it out changes nothing but its sections."""
    part = find(stack, path)
    return any(getattr(part, name, not value) == value for name, value in SWITCHES.items())


def _nowhere_otherwise(stack: Stack, switch: str) -> Stack:
    """The stack without what sections change about one switch."""
    sections = tuple(
        each.model_copy(update={"changes": tuple(c for c in each.changes if not within(c.path, switch))})
        for each in stack.sections
    )
    return stack.model_copy(update={"sections": sections})


def following_nothing(stack: Stack) -> Stack:
    """A stack without the movements that follow a sound, and without the steps of its layers that do."""
    movements = tuple(each for each in stack.movements if each.shape.follows() is None)
    stack = stack.model_copy(update={"movements": movements})
    for layer in stack.layers:
        for address, step in stack.treatments(f"layers/{layer.id}"):
            if step.follows() is not None:
                stack = replaced(stack, joined(address, "on"), False)
    return stack
