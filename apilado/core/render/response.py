"""What the split of a document does, from its filters alone."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack, borders_of
from apilado.core.dsp.crossovers import cut, cut_response
from apilado.core.render.playing import source_root


@dataclass(frozen=True)
class Chain:
    """Heard layers of one source whose bands follow on each other."""

    source: str
    """The id of the layer whose raw source they share."""
    members: tuple[Layer, ...]

    @property
    def first(self) -> int:
        """The lowest band."""
        return min(m.span.first for m in self.members)

    @property
    def last(self) -> int:
        """The highest band."""
        return max(m.span.last for m in self.members)

    def owners(self, band: int) -> list[Layer]:
        """Those that keep a band; of doubles, which keep the same run, the first."""
        found = [m for m in self.members if m.span.first <= band <= m.span.last]
        return [m for i, m in enumerate(found) if m.span not in [other.span for other in found[:i]]]


def band_edges_hz(stack: Stack) -> tuple[float, ...]:
    """The borders, with 20 Hz below them and 20 kHz above: band b lies between edges b and b + 1."""
    return (20.0, *[crossover.frequency_hz for crossover in stack.crossovers], 20000.0)


def unowned_bands(stack: Stack) -> tuple[int, ...]:
    """The bands that no layer keeps, muted ones included."""
    kept = {band for layer in stack.layers for band in range(layer.span.first, layer.span.last + 1)}
    return tuple(band for band in range(len(stack.crossovers) + 1) if band not in kept)


def chains(stack: Stack) -> tuple[Chain, ...]:
    """The heard layers by the source they share, cut where bands between them belong to layers of another kind.

    A band that nobody keeps does not cut a chain: it is a hole in it.
    """
    families: dict[str, list[Layer]] = {}
    for layer in stack.audible_layers():
        families.setdefault(source_root(stack, layer).id, []).append(layer)
    nobodys, found = set(unowned_bands(stack)), []
    for root, family in families.items():
        members: list[Layer] = []
        for layer in sorted(family, key=lambda m: (m.span.first, m.span.last)):
            top = max((m.span.last for m in members), default=layer.span.first)
            if members and not set(range(top + 1, layer.span.first)) <= nobodys:
                found.append(Chain(root, tuple(members)))
                members = []
            members.append(layer)
        found.append(Chain(root, tuple(members)))
    return tuple(found)


def whole_response(
    stack: Stack, chain: Chain, frequencies_hz: NDArray[np.float64], rate_hz: int
) -> NDArray[np.complex128]:
    """Response of all the bands from a chain's lowest to its highest, uncut."""
    piece = cut(borders_of(stack.crossovers, rate_hz), chain.first, chain.last)
    return cut_response(piece, frequencies_hz, rate_hz)


def split_sum(stack: Stack, chain: Chain, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
    """Response of the sum of a chain's layers, relative to the whole of the bands they span: 1 is flat.

    Their levels and treatments are left out; polarity and delay count. Doubles of one run count once.
    """
    borders = borders_of(stack.crossovers, rate_hz)
    total = np.zeros(frequencies_hz.shape, np.complex128)
    for layer in {m.span: m for m in reversed(chain.members)}.values():
        sign = -1.0 if layer.polarity == "inverted" else 1.0
        turn = np.exp(-2j * np.pi * frequencies_hz * layer.delay_ms / 1000.0)
        total += sign * turn * cut_response(cut(borders, layer.span.first, layer.span.last), frequencies_hz, rate_hz)
    whole = whole_response(stack, chain, frequencies_hz, rate_hz)
    return np.asarray(total / np.where(np.abs(whole) > 1e-6, whole, 1e-6), np.complex128)
