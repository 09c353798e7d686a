"""Fractional-octave bands after IEC 61260-1: base ten, G = 10^(3/10), reference 1 kHz."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.kernels import summing_kernel

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


def _edge_positions(spacing_hz: float, last: int, per_octave: int) -> NDArray[np.float64]:
    """Where the edges of the bands lie among bins, of which each reaches half a bin to both sides."""
    return np.minimum(band_edges(per_octave) / spacing_hz + 0.5, float(last))


def band_sums(
    values: NDArray[np.floating], frequencies_hz: NDArray[np.float64], per_octave: int
) -> NDArray[np.float64]:
    """Sums of spectrum values, shape (…, bins), over each band; a band narrower than a bin takes its share of it."""
    positions = _edge_positions(frequencies_hz[1] - frequencies_hz[0], values.shape[-1] - 1, per_octave)
    flat = np.ascontiguousarray(values).reshape(-1, values.shape[-1])
    sums = np.empty((flat.shape[0], positions.shape[0] - 1))
    _band_sums_kernel(flat, positions, sums)
    return sums.reshape(*values.shape[:-1], sums.shape[1])


@summing_kernel
def _band_sums_kernel(values: Any, positions: Any, sums: Any) -> None:
    """Whole bins between the edges, then the shares of the bins that the edges fall into: no band stays empty, and no
    energy is counted twice."""
    for row in range(values.shape[0]):
        bins = values[row]
        for band in range(positions.shape[0] - 1):
            low, high = np.int64(positions[band]), np.int64(positions[band + 1])
            some, total = bins[low:high], 0.0
            for n in range(some.shape[0]):
                total += np.float64(some[n])
            total += (positions[band + 1] - high) * bins[high]
            sums[row, band] = total - (positions[band] - low) * bins[low]


@summing_kernel
def _line_sums_kernel(left: Any, right: Any, positions: Any, sums: Any) -> None:
    """As `band_sums` has it: whole bins between the edges, then the shares of the bins that the edges fall into."""
    for band in range(positions.shape[0] - 1):
        low, high = np.int64(positions[band]), np.int64(positions[band + 1])
        some_left, some_right = left[low:high], right[low:high]
        lefts, rights, both = 0.0, 0.0, 0.0
        for line in range(some_left.shape[0]):
            a, b = np.float64(some_left[line].real), np.float64(some_left[line].imag)
            c, d = np.float64(some_right[line].real), np.float64(some_right[line].imag)
            lefts += a * a + b * b
            rights += c * c + d * d
            both += a * c + b * d
        for edge, sign in ((band, -1.0), (band + 1, 1.0)):
            cut = np.int64(positions[edge])
            share = sign * (positions[edge] - cut)
            a, b = np.float64(left[cut].real), np.float64(left[cut].imag)
            c, d = np.float64(right[cut].real), np.float64(right[cut].imag)
            lefts += share * (a * a + b * b)
            rights += share * (c * c + d * d)
            both += share * (a * c + b * d)
        sums[0, band], sums[1, band], sums[2, band] = lefts, rights, both


@summing_kernel
def _powers_kernel(lines: Any, edges: Any, sums: Any) -> None:
    """The squares of the lines from each edge to the next, added up."""
    for piece in range(sums.shape[0]):
        some, total = lines[edges[piece] : edges[piece + 1]], 0.0
        for line in range(some.shape[0]):
            a, b = np.float64(some[line].real), np.float64(some[line].imag)
            total += a * a + b * b
        sums[piece] = total


def powers_between(
    lines: NDArray[np.complex64], low: NDArray[np.int64], high: NDArray[np.int64]
) -> NDArray[np.float64]:
    """The squares of lines from each `low` to each `high` (not with it), added up; the ranges may overlap."""
    edges, places = np.unique(np.concatenate([low, high]), return_inverse=True)
    sums = np.empty(max(edges.shape[0] - 1, 0))
    _powers_kernel(lines, edges, sums)
    running = np.concatenate([[0.0], np.cumsum(sums)])
    return np.asarray(running[places[low.shape[0] :]] - running[places[: low.shape[0]]])


def line_sums(
    left: NDArray[np.complex64], right: NDArray[np.complex64], spacing_hz: float, per_octave: int
) -> NDArray[np.float64]:
    """Over each band the squares of the lines of two spectra, and their products; shape (left, right and both, bands).

    Args:
        left: from 0 Hz up, `spacing_hz` apart.
    """
    positions = _edge_positions(spacing_hz, left.shape[0] - 1, per_octave)
    sums = np.empty((3, positions.shape[0] - 1))
    _line_sums_kernel(left, right, positions, sums)
    return sums
