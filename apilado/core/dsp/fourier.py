"""SciPy's Fourier transforms, loaded when the first is asked for: that takes a quarter of a second, and no page needs
them."""

from __future__ import annotations

from typing import Any


def __getattr__(name: str) -> Any:
    from scipy import fft

    found = globals()[name] = getattr(fft, name)
    return found
