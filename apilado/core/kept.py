"""Sounds that were made once and are asked for again."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock

from apilado.core.dsp.audio import Audio


class Kept:
    """What was made once, by what it was made from: the newest, up to a number of bytes. Safe for threads."""

    def __init__(self, most_bytes: int) -> None:
        self._most, self._bytes, self._lock = most_bytes, 0, Lock()
        self._held: OrderedDict[Hashable, Audio] = OrderedDict()

    def get(self, key: Hashable, make: Callable[[], Audio]) -> Audio:
        """What has this key, which cannot be written to; made where it is not there."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        made = make()
        made.flags.writeable = False
        with self._lock:
            if key not in self._held:
                self._held[key] = made
                self._bytes += made.nbytes
            while len(self._held) > 1 and self._bytes > self._most:
                self._bytes -= self._held.popitem(last=False)[1].nbytes
        return made

    def clear(self) -> None:
        """Forgets all of it."""
        with self._lock:
            self._held.clear()
            self._bytes = 0
