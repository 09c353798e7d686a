"""How loops over frames are compiled: once, kept beside their file, and run without the interpreter's lock.

A division by zero gives what IEEE 754 says instead of raising an error: asking before each one would keep the compiler
from running many frames at a time (a soft clip took four times as long). Loops that divide see to it themselves.
"""

from __future__ import annotations

from numba import njit

kernel = njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
"""A product and a sum may be rounded once instead of twice."""
summing_kernel = njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract", "reassoc"})
"""Sums may be taken in any order besides, which lets them run many frames at a time."""
free_kernel = njit(cache=True, nogil=True, error_model="numpy", fastmath=True)
"""For what can be neither infinite nor no number: the compiler may do all that is right for real numbers."""
inlined = njit(inline="always")
"""A part of other kernels, compiled with each of them."""
