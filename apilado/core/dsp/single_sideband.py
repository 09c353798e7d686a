"""Moving all frequencies of a sound by as many Hz: x·cos φ - H(x)·sin φ, with H the Hilbert transform.

The transform is a filter of odd symmetry about its middle, an ideal one (2/πn at odd n) under a Kaiser window: it
delays nothing, and from 30 Hz on leaves less than -60 dB of the other sideband.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.designs import convolution, kaiser_window, taps_needed
from apilado.core.dsp.lead_in import with_ends

LOWEST_HZ = 30.0
IMAGE_DB = 72.0
"""By how much the ripple of the filter lies down: the other sideband is half of it."""


@lru_cache(maxsize=4)
def hilbert_taps(rate_hz: int) -> NDArray[np.float32]:
    """The filter that turns every frequency by a quarter back, an odd number of taps."""
    half = taps_needed(IMAGE_DB, 2.0 * LOWEST_HZ / (rate_hz / 2.0)) // 2 + 1
    n = np.arange(-half, half + 1)
    with np.errstate(divide="ignore"):
        ideal = np.where(n % 2 == 0, 0.0, 2.0 / (np.pi * n))
    return np.asarray(ideal * kaiser_window(2 * half + 1, IMAGE_DB), np.float32)


def turned_back(audio: Audio, rate_hz: int, *, looped: bool) -> Audio:
    """The sound with every frequency a quarter of its wave later; same shape."""
    taps = hilbert_taps(rate_hz)
    return as_audio(convolution(with_ends(audio, len(taps) // 2, looped=looped), taps[None, :], mode="valid"))


def frequencies_moved(audio: Audio, turns: NDArray[np.float64], rate_hz: int, *, looped: bool) -> Audio:
    """The sound with all of its frequencies higher, or lower where it turns backwards; same shape.

    Args:
        turns: how often it has turned by each frame, shape (frames,).
    """
    angle: Any = 2.0 * np.pi * turns
    back = turned_back(audio, rate_hz, looped=looped)
    return as_audio(audio * np.cos(angle).astype(np.float32) - back * np.sin(angle).astype(np.float32))
