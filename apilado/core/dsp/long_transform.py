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
IN_CACHE = 2**14
"""So many lines are put in order at a time that they stay in the cache."""
Lines = NDArray[np.complex64]
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
def _apart(here: Any, there: Any, gain: float, left: Any, right: Any) -> None:
    """The lines of two real signals from those of left + i·right and the mirror images of these, last one first."""
    half, last = np.float32(0.5 * gain), there.shape[0] - 1
    for n in range(here.shape[0]):
        line, image = here[n], there[last - n]
        left[n] = complex(half * (line.real + image.real), half * (line.imag - image.imag))
        right[n] = complex(half * (line.imag + image.imag), half * (image.real - line.real))


@kernel
def _of_halves(here: Any, there: Any, first: int, points: int, gain: float, lines: Any) -> None:
    """The lines of one real signal, from the first on, from those of its even samples + i·its odd ones and the mirror
    images of these, last one first."""
    half, last, step = np.float32(0.5 * gain), there.shape[0] - 1, -np.pi / points
    turns_re, turns_im = np.empty(ANEW), np.empty(ANEW)
    _fill_turns(step, turns_re, turns_im)
    for begin in range(0, here.shape[0], ANEW):
        to_re, to_im = np.cos(step * (first + begin)), np.sin(step * (first + begin))
        for n in range(min(ANEW, here.shape[0] - begin)):
            line, image = here[begin + n], there[last - begin - n]
            odd_re, odd_im = line.imag + image.imag, image.real - line.real
            # The odd samples come one frame later.
            late_re = np.float32(turns_re[n] * to_re - turns_im[n] * to_im)
            late_im = np.float32(turns_re[n] * to_im + turns_im[n] * to_re)
            lines[begin + n] = complex(
                half * (line.real + image.real + odd_re * late_re - odd_im * late_im),
                half * (line.imag - image.imag + odd_re * late_im + odd_im * late_re),
            )


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


def _in_order(table: NDArray[np.complex64], lines: int) -> Iterator[tuple[int, Lines, Lines]]:
    """(first line, some lines from it on, their mirror images, last one first), of a table as it is made above.

    The mirror image of a line is line points - line; that of line 0 is itself.
    """
    rows, columns = table.shape
    for begin, end in pieces(-(-lines // rows), max(1, IN_CACHE // rows)):
        here = np.ascontiguousarray(table[:, begin:end].T).ravel()
        there = np.empty(here.shape[0] + 1, np.complex64)
        there[:-1].reshape(-1, rows)[...] = table[:, columns - end : columns - begin].T
        there[-1] = table[0, -begin % columns]
        count = min(here.shape[0], lines - begin * rows)
        yield begin * rows, here[:count], there[-count:]


def spectrum_of_one(signal: NDArray[np.float32], gain: float = 1.0) -> Lines:
    """The spectrum of a real signal of an even number of points, times a gain; shape (points/2 + 1,).

    Args:
        signal: shape (points,); it is written over.
    """
    table = _table_of(signal.view(np.complex64))
    lines = np.empty(table.size + 1, np.complex64)
    for first, here, there in _in_order(table, table.size):
        _of_halves(here, there, first, table.size, gain, lines[first:])
    lines[-1] = np.float32(gain) * (table[0, 0].real - table[0, 0].imag)
    return lines


def spectra_of_two(both: Lines, lines: int, gain: float = 1.0) -> tuple[Lines, ...]:
    """The first lines of the spectra of two real signals, times a gain; each of shape (lines,).

    Args:
        both: left + i·right, shape (points,); it is written over.
        lines: at most half of the points and one.
    """
    left, right, table = np.empty(lines, np.complex64), np.empty(lines, np.complex64), _table_of(both)
    for first, here, there in _in_order(table, lines):
        _apart(here, there, gain, left[first:], right[first:])
    return left, right
