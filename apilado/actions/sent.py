"""What pages were sent last of their loops, so that only what has changed is sent again."""

from __future__ import annotations

import itertools
from collections import OrderedDict
from threading import Lock

import numpy as np

from apilado.core.dsp.audio import Audio

BLOCK_FRAMES = 65536
MOST_BYTES = 160 * 2**20
"""A loop of three minutes at 48 kHz holds 69 MB: of so many bytes the last are remembered."""


class Sent:
    """The last loops of each page, by its client and what it is to it; safe for threads."""

    def __init__(self, most_bytes: int = MOST_BYTES) -> None:
        self._most_bytes = most_bytes
        self._loops: OrderedDict[tuple[str, str], tuple[int, Audio]] = OrderedDict()
        self._numbers = itertools.count(1)
        self._lock = Lock()

    def changed(self, page: tuple[str, str], known: int, audio: Audio) -> tuple[int, list[int]]:
        """(number of this loop, the blocks that a page needs of it).

        Args:
            known: the number of the loop that the page has; 0 where it has none. All blocks where that is not the one
                that it was sent last, or where a loop has another length now.
        """
        with self._lock:
            number, before = next(self._numbers), self._loops.pop(page, None)
            self._loops[page] = number, audio
            while sum(loop.nbytes for _, loop in self._loops.values()) > self._most_bytes and len(self._loops) > 1:
                self._loops.popitem(last=False)
        blocks = range(-(-audio.shape[1] // BLOCK_FRAMES))
        if before is None or before[0] != known or before[1].shape != audio.shape:
            return number, list(blocks)
        places = [slice(BLOCK_FRAMES * each, BLOCK_FRAMES * (each + 1)) for each in blocks]
        same = [np.array_equal(audio[:, place], before[1][:, place]) for place in places]
        return number, [each for each, alike in zip(blocks, same, strict=True) if not alike]
