"""Remembering what was worked out of an object, for as long as that very object is asked about."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any, TypeVar

T = TypeVar("T")


class ByIdentity:
    """Results by the objects that they were made of, which are kept meanwhile: no other has their number.

    What was worked out first is forgotten first, and worked out again where it is still asked for: to note every
    question would take longer.
    """

    def __init__(self, most: int) -> None:
        self._most = most
        self._found: dict[tuple[Hashable, ...], tuple[tuple[Any, ...], Any]] = {}
        self._lock = Lock()

    def get(self, make: Callable[[], T], *objects: Any, beside: Hashable = None) -> T:
        """What was made of these objects before, or `make` makes now.

        Args:
            beside: what it was made of besides, by its value.
        """
        key = (beside, *map(id, objects))
        known = self._found.get(key)
        if known is not None:
            found: T = known[1]
            return found
        made = make()
        with self._lock:
            self._found[key] = objects, made
            while len(self._found) > self._most:
                del self._found[next(iter(self._found))]
        return made
