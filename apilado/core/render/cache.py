"""Results of stages, kept in memory up to a limit."""

from __future__ import annotations

from collections import Counter, OrderedDict
from dataclasses import dataclass, fields, is_dataclass
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

DEFAULT_LIMIT_BYTES = 512 * 2**20
SMALLEST_BYTES = 256
LEAST_SECONDS = 1e-4
"""What making anything again costs besides."""
COARSE_FRAMES, MOST_COARSE = 256, 64
"""Of a course over time that leaves, such as a gain reduction, a value of every so many frames remains; of so many."""


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


@dataclass
class _Kept:
    result: Any
    size: int
    worth: float
    """Seconds that it took for each byte."""
    rank: float = 0.0


class StageCache:
    """Results up to a limit in bytes; safe for threads.

    What leaves first is what is quickly made again for the room that it takes, and has not been asked for lately: the
    rule *GreedyDual-Size* of P. Cao and S. Irani, "Cost-aware WWW proxy caching algorithms", USITS 1997. A result ranks
    by what it cost for each byte, above the rank of what has left last; being asked for lifts it there again. What is
    in use leaves last of all: that would not free its memory.
    """

    def __init__(self, limit_bytes: int = DEFAULT_LIMIT_BYTES) -> None:
        self.limit_bytes = limit_bytes
        self._results: dict[bytes, _Kept] = {}
        self._coarse: OrderedDict[bytes, tuple[int, NDArray[Any]]] = OrderedDict()
        self._bytes = 0
        self._level = 0.0
        """The rank of what has left last."""
        self._in_use: Counter[bytes] = Counter()
        self._lock = Lock()

    @property
    def used_bytes(self) -> int:
        """Memory held now."""
        return self._bytes

    def get(self, key: bytes) -> Any | None:
        """The result under a key, or None."""
        with self._lock:
            found = self._results.get(key)
            if found is None:
                return None
            found.rank = self._level + found.worth
            self._results[key] = self._results.pop(key)  # of those that rank alike it leaves last
            return found.result

    def put(self, key: bytes, result: Any, seconds: float = 0.0) -> None:
        """Keeps a result that took so many seconds to make, with all that it was made of; lets others go beyond the
        limit."""
        size = max(size_in_bytes(result), SMALLEST_BYTES)
        with self._lock:
            known = self._results.pop(key, None)
            self._bytes -= known.size if known is not None else 0
            worth = (seconds + LEAST_SECONDS) / size
            new = self._results[key] = _Kept(result, size, worth)
            self._bytes += size
            while self._bytes > self.limit_bytes and len(self._results) > 1:
                gone = min((each for each in self._results if each != key), key=self._turn)
                left = self._results.pop(gone)
                self._leave_coarse(gone, left.result)
                self._level = max(self._level, left.rank)
                self._bytes -= left.size
            new.rank = self._level + worth

    def _turn(self, key: bytes) -> tuple[bool, float]:
        return key in self._in_use, self._results[key].rank

    def use(self, key: bytes) -> None:
        """The result under a key is in use, once more, until `let_go`."""
        with self._lock:
            self._in_use[key] += 1

    def let_go(self, key: bytes) -> None:
        """The result under a key is in use once less."""
        with self._lock:
            self._in_use[key] -= 1
            if self._in_use[key] <= 0:
                del self._in_use[key]

    def value_at(self, key: bytes, frame: int) -> float | None:
        """Of a course over time, shape (frames,), its value at a frame of its endless repetition. None where nothing of
        it is known, or where it is no such course; of one that has left, the value within 256 frames before."""
        found = self.get(key)
        if isinstance(found, np.ndarray) and found.ndim == 1:
            return float(found[frame % len(found)])
        with self._lock:
            left = self._coarse.get(key)
        return None if left is None else float(left[1][frame % left[0] // COARSE_FRAMES])

    def _leave_coarse(self, key: bytes, result: Any) -> None:
        if isinstance(result, np.ndarray) and result.ndim == 1 and len(result):
            self._coarse[key] = len(result), result[::COARSE_FRAMES].copy()
            while len(self._coarse) > MOST_COARSE:
                self._coarse.popitem(last=False)

    def clear(self) -> None:
        """Forgets everything."""
        with self._lock:
            self._results.clear()
            self._coarse.clear()
            self._bytes = 0
