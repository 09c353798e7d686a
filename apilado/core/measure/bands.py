"""Fractional-octave bands after IEC 61260-1: base ten, G = 10^(3/10), reference 1 kHz."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

OCTAVE_RATIO = 10.0**0.3
LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0


@lru_cache(maxsize=8)
def band_centres(per_octave: int) -> NDArray[np.float64]:
    """Exact mid-band frequencies in Hz that lie from 20 Hz to 20 kHz (nominal ends included), ascending.

    f = 1000·G^(x/b) for odd b, 1000·G^((2x+1)/(2b)) for even b (IEC 61260-1, 5.2).
    """
    x = np.arange(-8 * per_octave, 6 * per_octave)
    shift = 0.0 if per_octave % 2 else 0.5
    centres = 1000.0 * OCTAVE_RATIO ** ((x + shift) / per_octave)
    kept = centres[(centres > LOWEST_HZ * 0.97) & (centres < HIGHEST_HZ * 1.03)]
    kept.flags.writeable = False
    return kept


NOMINAL_THIRDS = (
    *("20", "25", "31.5", "40", "50", "63", "80", "100", "125", "160", "200", "250", "315", "400", "500", "630", "800"),
    *("1k", "1.25k", "1.6k", "2k", "2.5k", "3.15k", "4k", "5k", "6.3k", "8k", "10k", "12.5k", "16k", "20k"),
)
"""How the third-octaves from 20 Hz to 20 kHz are called (IEC 61260-1, annex E)."""


@lru_cache(maxsize=8)
def band_edges(per_octave: int) -> NDArray[np.float64]:
    """Edges of the bands in Hz, one more than there are bands."""
    centres = band_centres(per_octave)
    half = OCTAVE_RATIO ** (0.5 / per_octave)
    edges = np.append(centres / half, centres[-1] * half)
    edges.flags.writeable = False
    return edges


def band_sums(
    values: NDArray[np.floating], frequencies_hz: NDArray[np.float64], per_octave: int
) -> NDArray[np.float64]:
    """Sums of spectrum values, shape (…, bins), over each band; a band narrower than a bin takes its share of it."""
    last = values.shape[-1] - 1
    positions = np.minimum(band_edges(per_octave) / (frequencies_hz[1] - frequencies_hz[0]) + 0.5, float(last))
    below = positions.astype(np.int64)
    # Whole bins between the edges, then the shares of the bins that the edges fall into: no band stays empty, and no
    # energy is counted twice.
    whole = np.add.reduceat(values[..., : below[-1] + 1], below, axis=-1, dtype=np.float64)[..., :-1]
    whole = np.where(np.diff(below) > 0, whole, 0.0)
    shares = (positions - below) * values[..., below]
    return np.asarray(whole + np.diff(shares, axis=-1), np.float64)
