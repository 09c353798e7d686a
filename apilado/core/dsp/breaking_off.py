"""Long work that can be broken off between its pieces: whoever begins it says how to ask, and it asks before each."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

PIECE = 1 << 17
"""Frames between two questions: some milliseconds' work. A power of two, so that it is whole blocks of any kernel."""
_asked = threading.local()


@contextmanager
def broken_off_by(check: Callable[[], None]) -> Iterator[None]:
    """Within it, work of this thread is broken off by what `check` raises."""
    before = getattr(_asked, "check", None)
    _asked.check = check
    try:
        yield
    finally:
        _asked.check = before


def pieces(frames: int, size: int = PIECE) -> Iterator[tuple[int, int]]:
    """(first frame, frame behind the last) of one piece after another; before each it is asked."""
    for first in range(0, frames, size):
        may_break_off()
        yield first, min(first + size, frames)


def may_break_off() -> None:
    """Asks whether the work is still wanted: raises what its check raises, if there is one."""
    check: Callable[[], None] | None = getattr(_asked, "check", None)
    if check is not None:
        check()
