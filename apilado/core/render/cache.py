"""Results of stages, kept in memory up to a limit, the longest unused leaving first."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import fields, is_dataclass
from threading import Lock
from typing import Any

import numpy as np

DEFAULT_LIMIT_BYTES = 512 * 2**20
SMALLEST_BYTES = 256


def size_in_bytes(result: Any) -> int:
    """Memory that a result holds: arrays by their bytes, dataclasses, tuples and dicts by what is in them."""
    if isinstance(result, np.ndarray):
        return max(result.nbytes, SMALLEST_BYTES)
    if is_dataclass(result):
        return sum(size_in_bytes(getattr(result, field.name)) for field in fields(result))
    if isinstance(result, tuple | list):
        return sum(size_in_bytes(item) for item in result)
    if isinstance(result, dict):
        return sum(size_in_bytes(item) for item in result.values())
    return SMALLEST_BYTES


class StageCache:
    """Least recently used, by bytes; safe for threads."""

    def __init__(self, limit_bytes: int = DEFAULT_LIMIT_BYTES) -> None:
        self.limit_bytes = limit_bytes
        self._results: OrderedDict[bytes, tuple[Any, int]] = OrderedDict()
        self._bytes = 0
        self._lock = Lock()

    @property
    def used_bytes(self) -> int:
        """Memory held now."""
        return self._bytes

    def get(self, key: bytes) -> Any | None:
        """The result under a key, or None."""
        with self._lock:
            entry = self._results.get(key)
            if entry is None:
                return None
            self._results.move_to_end(key)
            return entry[0]

    def put(self, key: bytes, result: Any) -> None:
        """Keeps a result, dropping the longest unused beyond the limit."""
        size = size_in_bytes(result)
        with self._lock:
            if key in self._results:
                self._bytes -= self._results.pop(key)[1]
            self._results[key] = (result, size)
            self._bytes += size
            while self._bytes > self.limit_bytes and len(self._results) > 1:
                self._bytes -= self._results.popitem(last=False)[1][1]

    def clear(self) -> None:
        """Forgets everything."""
        with self._lock:
            self._results.clear()
            self._bytes = 0
