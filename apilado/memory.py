"""Memory that was let go of is used again instead of going back to the system with every buffer.

A render makes and drops buffers of some megabytes by the hundred. The C library gives each of them back at once, and
the next one is made of new pages, every one of which the system has to find and to wipe first: a tenth of a cold
render, and more where the machine is shared. What is kept here is process-wide, so the command line asks for it once.
"""

from __future__ import annotations

import ctypes
import gc

M_TRIM_THRESHOLD, M_MMAP_THRESHOLD, M_ARENA_MAX = -1, -3, -8
"""Of `mallopt`, as the GNU C library numbers them in malloc.h."""
ALL = 2
"""The oldest generation: with it everything is searched."""
KEPT_BYTES = 512 * 2**20
"""How much of what is free may stay with the process: as much as the stages that are kept may take."""
LARGEST_BYTES = 32 * 2**20
"""What is larger goes back at once: there are few of these, and the holes that they leave would not fit the next."""


def keep_freed() -> bool:
    """Keeps what is freed from now on for what comes; False where the C library cannot be told."""
    library = ctypes.CDLL(None)
    if not hasattr(library, "mallopt"):
        return False
    # One heap for all threads: what one of them lets go of another can use.
    settings = ((M_ARENA_MAX, 1), (M_MMAP_THRESHOLD, LARGEST_BYTES), (M_TRIM_THRESHOLD, KEPT_BYTES))
    return all(library.mallopt(name, value) for name, value in settings)


def look_once() -> None:
    """From now on what has outlived one full search for unused cycles is not searched again, until `give_back`.

    Kernels and libraries are some hundred thousand objects. A search through all of them took a tenth of a second, in
    which nothing else could run; it came when a session had made enough that is new.
    """
    if _set_aside not in gc.callbacks:
        gc.callbacks.append(_set_aside)


def _set_aside(phase: str, found: dict[str, int]) -> None:
    if phase == "stop" and found["generation"] == ALL:
        gc.freeze()


def give_back() -> None:
    """Gives all that is free back to the system, while nobody needs it."""
    gc.unfreeze()
    gc.collect()
    library = ctypes.CDLL(None)
    if hasattr(library, "malloc_trim"):
        library.malloc_trim(0)
