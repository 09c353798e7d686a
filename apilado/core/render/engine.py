"""Runs stages: from the cache, or computed, several at a time, each once."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from threading import Event, Lock
from typing import Any

import numpy as np

from apilado.core.render.cache import DEFAULT_LIMIT_BYTES, StageCache
from apilado.core.render.stage import Stage
from apilado.errors import Overtaken


class Token:
    """Says whether a render is still wanted."""

    def __init__(self) -> None:
        self._overtaken = Event()

    def overtake(self) -> None:
        """Tells the render to stop before its next stage."""
        self._overtaken.set()

    def check(self) -> None:
        """Raises Overtaken if a newer render has made this one pointless."""
        if self._overtaken.is_set():
            raise Overtaken("a newer render is wanted")


class Engine:
    """Computes stages in a pool of threads (kernels release the GIL) over one shared cache."""

    def __init__(self, cache_bytes: int = DEFAULT_LIMIT_BYTES, threads: int | None = None) -> None:
        self.cache = StageCache(cache_bytes)
        self._pool = ThreadPoolExecutor(threads or os.cpu_count() or 2, thread_name_prefix="render")
        self._running: dict[bytes, Event] = {}
        self._lock = Lock()

    def close(self) -> None:
        """Waits for what is running and ends the threads."""
        self._pool.shutdown()

    def run(self, stages: Sequence[Stage], token: Token | None = None) -> list[Any]:
        """The results of the stages, in order; each stage's own inputs are computed as needed.

        Raises:
            Overtaken: the token was overtaken before the end.
        """
        token = token or Token()
        futures = [self._pool.submit(self._result, stage, token) for stage in stages]
        try:
            return [future.result() for future in futures]
        except BaseException:
            for future in futures:
                future.cancel()
            raise

    def _result(self, stage: Stage, token: Token) -> Any:
        while True:
            found = self.cache.get(stage.key)
            if found is not None:
                return found
            with self._lock:
                other = self._running.get(stage.key)
                if other is None:
                    self._running[stage.key] = Event()
                    break
            # Another thread is at it. It never waits for us: stages form no circle.
            other.wait()
            token.check()
        try:
            token.check()
            found = self.cache.get(stage.key)  # finished between the look and the claim
            if found is None:
                found = frozen(stage.function(*[self._result(source, token) for source in stage.inputs]))
                self.cache.put(stage.key, found)
            return found
        finally:
            with self._lock:
                self._running.pop(stage.key).set()


def frozen(result: Any) -> Any:
    """The result with its arrays made read-only: what is shared is never changed."""
    if isinstance(result, np.ndarray):
        result.flags.writeable = False
    return result
