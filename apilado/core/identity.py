"""Remembering what was worked out of an object, for as long as that very object is asked about."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from typing import Any, TypeVar

T = TypeVar("T")


class ByIdentity:
    """The last results by the objects that they were made of, which are kept meanwhile: no other has their number."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._found: OrderedDict[tuple[int, ...], tuple[tuple[Any, ...], Any]] = OrderedDict()
        self._lock = Lock()

    def get(self, make: Callable[[], T], *objects: Any) -> T:
        """What was made of these objects before, or `make` makes now."""
        key = tuple(map(id, objects))
        with self._lock:
            known = self._found.get(key)
            if known is not None:
                self._found.move_to_end(key)
                found: T = known[1]
                return found
        made = make()
        with self._lock:
            self._found[key] = objects, made
            while len(self._found) > self._most:
                self._found.popitem(last=False)
        return made
