"""Spectra of long signals.

A transform of a million points goes up and down through more memory than a cache holds, and takes its points one after
another. Laid out as a table it becomes many short transforms, first of the columns, then of the rows, and between the
two every point is turned by its place: D. H. Bailey, "FFTs in external or hierarchical memory", Journal of
Supercomputing 4, 1990. SciPy makes many short ones side by side.

Two real signals go through as one complex one; so do the two halves of one, its even samples and its odd ones.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.breaking_off import PIECE, pieces
from apilado.core.dsp.kernels import kernel

SHORTEST = 2**14
"""Below, one transform is as quick."""
ANEW = 256
"""So many turns are multiplied up from one another; what lies further on begins with one of its own."""
TILE_ROWS, TILE_COLUMNS = 64, 16
"""So much of a table is read at a time, crosswise, that it stays in the cache."""
SIDE_BY_SIDE = 16
"""Short transforms that are made together: a multiple of what SciPy takes at once."""


def divided(points: int) -> tuple[int, int]:
    """(rows, columns) of a table of so many points, as square as its divisors let it be."""
    rows = math.isqrt(points)
    while points % rows:
        rows -= 1
    return rows, points // rows


@kernel
def _fill_turns(step: float, re: Any, im: Any) -> None:
    """e^(i·step·n) for each n from 0: twice as many at a time, those that are there turned by their number."""
    re[0], im[0] = 1.0, 0.0
    there = 1
    while there < re.shape[0]:
        by_re, by_im = np.cos(step * there), np.sin(step * there)
        count = min(there, re.shape[0] - there)
        known_re, known_im, next_re, next_im = re[:count], im[:count], re[there:], im[there:]
        for n in range(count):
            next_re[n] = known_re[n] * by_re - known_im[n] * by_im
            next_im[n] = known_re[n] * by_im + known_im[n] * by_re
        there *= 2


@kernel
def _turned(table: Any, begin: int, end: int) -> None:
    """Every point (row, column) of some rows by e^(-2πi·row·column/points)."""
    rows, columns = table.shape
    turns_re, turns_im = np.empty(ANEW), np.empty(ANEW)
    for row in range(begin, end):
        step = -2.0 * np.pi * row / (rows * columns)
        _fill_turns(step, turns_re, turns_im)
        for first in range(0, columns, ANEW):
            to_re, to_im = np.cos(step * first), np.sin(step * first)
            points = table[row, first : min(first + ANEW, columns)]
            for n in range(points.shape[0]):
                value = points[n]
                re, im = value.real * to_re - value.imag * to_im, value.real * to_im + value.imag * to_re
                points[n] = complex(re * turns_re[n] - im * turns_im[n], re * turns_im[n] + im * turns_re[n])


@kernel
def _apart(table: Any, gain: float, begin: int, end: int, left: Any, right: Any) -> None:
    """The lines of two real signals from those of left + i·right: line r + rows·c of them stands in row r, column c.

    Only those of some rows are made.
    """
    rows, columns = table.shape
    half, wanted = np.float32(0.5 * gain), -(-left.shape[0] // rows)
    for first_row in range(begin, end, TILE_ROWS):
        for first_column in range(0, wanted, TILE_COLUMNS):
            for column in range(first_column, min(wanted, first_column + TILE_COLUMNS)):
                last_row = min(end, first_row + TILE_ROWS, left.shape[0] - column * rows)
                for row in range(first_row, last_row):
                    # The mirror image of a line is line points - line; that of line 0 is itself.
                    here = table[row, column]
                    there = table[rows - row, columns - 1 - column] if row else table[0, (columns - column) % columns]
                    line = column * rows + row
                    left[line] = complex(half * (here.real + there.real), half * (here.imag - there.imag))
                    right[line] = complex(half * (here.imag + there.imag), half * (there.real - here.real))


@kernel
def _of_halves(table: Any, gain: float, begin: int, end: int, lines: Any) -> None:
    """The lines of one real signal from those of its even samples + i·its odd ones, in a table as for `_apart`.

    Those of some rows; with those of row 0 the last line too.
    """
    rows, columns = table.shape
    points, half = rows * columns, np.float32(0.5 * gain)
    step = -np.pi / points
    turns_re, turns_im = np.empty(TILE_ROWS), np.empty(TILE_ROWS)
    _fill_turns(step, turns_re, turns_im)
    for first_row in range(begin, end, TILE_ROWS):
        for column in range(columns):
            first = column * rows + first_row
            to_re, to_im = np.cos(step * first), np.sin(step * first)
            for n in range(min(end - first_row, TILE_ROWS)):
                row = first_row + n
                here = table[row, column]
                there = table[rows - row, columns - 1 - column] if row else table[0, (columns - column) % columns]
                odd_re, odd_im = here.imag + there.imag, there.real - here.real
                # The odd samples come one frame later.
                late_re = np.float32(turns_re[n] * to_re - turns_im[n] * to_im)
                late_im = np.float32(turns_re[n] * to_im + turns_im[n] * to_re)
                lines[first + n] = complex(
                    half * (here.real + there.real + odd_re * late_re - odd_im * late_im),
                    half * (here.imag - there.imag + odd_re * late_im + odd_im * late_re),
                )
    if begin == 0:
        lines[points] = complex(np.float32(gain) * (table[0, 0].real - table[0, 0].imag), np.float32(0.0))


def _some(count: int, across: int, least: int) -> Iterator[tuple[int, int]]:
    """(first, behind the last) of so many rows at a time as are a piece of work, or columns, each of `across` points;
    whole multiples of `least`."""
    return pieces(count, max(least, PIECE // across // least * least))


def _transform(some: NDArray[np.complex64], axis: int) -> None:
    """Writes many short spectra over what they are of."""
    found = fft.fft(some, axis=axis, overwrite_x=True)
    if not np.may_share_memory(found, some):
        some[...] = found


def _table_of(points: NDArray[np.complex64]) -> NDArray[np.complex64]:
    """The spectrum of some points, which are written over: line r + rows·c of it stands in row r, column c."""
    rows, columns = divided(points.shape[0]) if points.shape[0] >= SHORTEST else (1, points.shape[0])
    table: NDArray[np.complex64] = points.reshape(rows, columns)
    if rows > 1:
        for first, end in _some(columns, rows, SIDE_BY_SIDE):
            _transform(table[:, first:end], 0)
    for first, end in _some(rows, columns, SIDE_BY_SIDE):
        if rows > 1:
            _turned(table, first, end)
        _transform(table[first:end], 1)
    return table


def spectrum_of_one(signal: NDArray[np.float32], gain: float = 1.0) -> NDArray[np.complex64]:
    """The spectrum of a real signal of an even number of points, times a gain; shape (points/2 + 1,).

    Args:
        signal: shape (points,); it is written over.
    """
    lines, table = np.empty(signal.shape[0] // 2 + 1, np.complex64), _table_of(signal.view(np.complex64))
    for first, end in _some(table.shape[0], table.shape[1], TILE_ROWS):
        _of_halves(table, gain, first, end, lines)
    return lines


def spectra_of_two(both: NDArray[np.complex64], lines: int, gain: float = 1.0) -> tuple[NDArray[np.complex64], ...]:
    """The first lines of the spectra of two real signals, times a gain; each of shape (lines,).

    Args:
        both: left + i·right, shape (points,); it is written over.
        lines: at most half of the points and one.
    """
    left, right, table = np.empty(lines, np.complex64), np.empty(lines, np.complex64), _table_of(both)
    for first, end in _some(table.shape[0], table.shape[1], TILE_ROWS):
        _apart(table, gain, first, end, left, right)
    return left, right
