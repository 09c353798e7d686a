"""How far a command is: a line that is written over on a terminal, plain lines elsewhere."""

from __future__ import annotations

import sys
from threading import Lock
from typing import TextIO

WIDTH = 24


class Meter:
    """Tells how far something is, to standard error; what it makes is told on standard output."""

    def __init__(self, what: str = "", stream: TextIO | None = None, *, quiet: bool = False) -> None:
        self._what, self._stream = what, stream or sys.stderr
        self._terminal, self._quiet = self._stream.isatty(), quiet
        self._said = ""
        self._lock = Lock()

    def __call__(self, share: float, doing: str) -> None:
        """
        Args:
            share: that is done, 0 to 1.
        """
        if self._quiet:
            return
        with self._lock:
            told = f"{self._what}: {doing}" if self._what else doing
            if self._terminal:
                done = round(WIDTH * min(1.0, max(0.0, share)))
                self._stream.write(f"\r\x1b[K[{'#' * done}{'.' * (WIDTH - done)}] {told}"[:120])
                self._stream.flush()
            elif told != self._said:
                print(told, file=self._stream, flush=True)
            self._said = told

    def end(self) -> None:
        """Clears the line."""
        if self._terminal and not self._quiet:
            self._stream.write("\r\x1b[K")
            self._stream.flush()
