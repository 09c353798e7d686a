"""What the split of a document does, from its filters alone."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack, borders_of
from apilado.core.dsp.crossovers import cut, cut_response
from apilado.core.render.builder import source_root


def families(stack: Stack) -> dict[str, list[Layer]]:
    """The heard layers by the layer whose raw source they share."""
    found: dict[str, list[Layer]] = {}
    for layer in stack.audible_layers():
        found.setdefault(source_root(stack, layer).id, []).append(layer)
    return found


def split_sum(
    stack: Stack, members: Sequence[Layer], frequencies_hz: NDArray[np.float64], rate_hz: int
) -> NDArray[np.complex128]:
    """Response of the sum of layers of one source, relative to the whole of the bands they span: 1 is flat.

    Their levels and treatments are left out; polarity and delay count.
    """
    borders = borders_of(stack.crossovers, rate_hz)
    lowest, highest = min(m.span.first for m in members), max(m.span.last for m in members)
    total = np.zeros(frequencies_hz.shape, np.complex128)
    for layer in members:
        sign = -1.0 if layer.polarity == "inverted" else 1.0
        turn = np.exp(-2j * np.pi * frequencies_hz * layer.delay_ms / 1000.0)
        total += sign * turn * cut_response(cut(borders, layer.span.first, layer.span.last), frequencies_hz, rate_hz)
    whole = cut_response(cut(borders, lowest, highest), frequencies_hz, rate_hz)
    return np.asarray(total / np.where(np.abs(whole) > 1e-6, whole, 1e-6), np.complex128)
