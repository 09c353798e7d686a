"""Each thread that renders keeps to a core of its own, where the system lets it be said.

A scheduler that would rather let cores sleep runs two threads on one of them, and looks again after some milliseconds:
most stages of a stretch are over by then, and two threads took as long as one. What else runs on the machine can still
be moved out of their way.
"""

from __future__ import annotations

import os
from contextlib import suppress
from itertools import count

ANY = tuple(range(os.cpu_count() or 2))


def cores() -> tuple[int, ...]:
    """The numbers of the cores that this process may use."""
    return tuple(sorted(os.sched_getaffinity(0))) if hasattr(os, "sched_getaffinity") else ANY


class Keeping:
    """Gives the threads of a pool a core each, one after the other."""

    def __init__(self, among: tuple[int, ...]) -> None:
        self._among, self._numbers = among, count()

    def take(self) -> None:
        """The thread that asks keeps to the next core from now on."""
        if hasattr(os, "sched_setaffinity"):
            with suppress(OSError):  # a core that has been taken from this process since
                os.sched_setaffinity(0, {self._among[next(self._numbers) % len(self._among)]})
