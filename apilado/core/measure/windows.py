"""Windows that are used again and again."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.kernels import kernel


@lru_cache(maxsize=128)
def hann(frames: int) -> NDArray[np.float64]:
    """The Hann window of so many frames, 0 at both ends; shape (frames,), not to be written to."""
    window = np.hanning(frames)
    window.flags.writeable = False
    return window


def hann_within(frames: int) -> NDArray[np.float64]:
    """The Hann window that is 0 just outside of so many frames; shape (frames,), not to be written to."""
    return hann(frames + 2)[1:-1]


@kernel
def take_windows(signal: Any, starts: Any, shape: Any, windows: Any) -> None:
    """What begins at some frames of a loop, each as long as a shape and times it.

    Args:
        signal: shape (frames,).
        windows: what is written, a row for each start.
    """
    frames = signal.shape[0]
    for number in range(starts.shape[0]):
        window, done, at = windows[number], 0, starts[number] % frames
        while done < shape.shape[0]:
            count = min(frames - at, shape.shape[0] - done)
            sounding, shares, out = signal[at : at + count], shape[done : done + count], window[done : done + count]
            for n in range(count):
                out[n] = shares[n] * sounding[n]
            done, at = done + count, 0
