"""Overdoing: a stack with one of its moving parts exaggerated, to be heard for a moment and never kept."""

from __future__ import annotations

from apilado.core.document.addresses import find, replaced
from apilado.core.document.ducker import Ducker
from apilado.core.document.stack import Stack
from apilado.core.treatments.base import Treatment
from apilado.errors import NotFound


def overdone(stack: Stack, path: str) -> Stack:
    """The stack with one part overdone: a ducker or a treatment, by its address.

    Raises:
        NotFound: there is no such part, or it has nothing that could be overdone.
    """
    part = find(stack, path)
    more: Ducker | Treatment | None = None
    if isinstance(part, Ducker):
        more = part.model_copy(update={"shape": part.shape.overdone()})
    elif isinstance(part, Treatment):
        more = part.overdone()
    if more is None:
        raise NotFound(f"there is nothing at '{path}' that could be overdone")
    return replaced(stack, path, more.model_copy(update={"on": True}))
