"""Windows that are used again and again."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray


@lru_cache(maxsize=128)
def hann(frames: int) -> NDArray[np.float64]:
    """The Hann window of so many frames, 0 at both ends; shape (frames,), not to be written to."""
    window = np.hanning(frames)
    window.flags.writeable = False
    return window


def hann_within(frames: int) -> NDArray[np.float64]:
    """The Hann window that is 0 just outside of so many frames; shape (frames,), not to be written to."""
    return hann(frames + 2)[1:-1]
