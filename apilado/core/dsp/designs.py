"""SciPy's linear-phase designs and its convolution, loaded when the first is asked for: that takes most of a second,
and no page needs them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def convolution(sound: NDArray[Any], taps: NDArray[Any], *, mode: str) -> NDArray[Any]:
    """A sound convolved with taps along its frames, by overlap and add; `mode` as of `scipy.signal.oaconvolve`."""
    from scipy.signal import oaconvolve

    found: NDArray[Any] = oaconvolve(sound, taps, mode=mode, axes=-1)
    return found


def sinc_taps_for(count: int, edge: float, stop_db: float) -> NDArray[np.float64]:
    """So many taps of a low-pass: a sinc under a Kaiser window that stops by so many decibels.

    Args:
        edge: the middle of its transition, as a share of half the rate.
    """
    from scipy.signal import firwin

    return np.asarray(firwin(count, edge, window=("kaiser", kaiser_shape(stop_db))))


def taps_needed(stop_db: float, width: float) -> int:
    """How many taps a Kaiser window needs to stop by so many decibels over a width, as a share of half the rate."""
    from scipy.signal import kaiserord

    return int(kaiserord(stop_db, width)[0])


def kaiser_shape(stop_db: float) -> float:
    """The shape of a Kaiser window that stops by so many decibels."""
    from scipy.signal import kaiser_beta

    return float(kaiser_beta(stop_db))


def kaiser_window(count: int, stop_db: float) -> NDArray[np.float64]:
    """A Kaiser window of so many points that stops by so many decibels."""
    return np.kaiser(count, kaiser_shape(stop_db))
