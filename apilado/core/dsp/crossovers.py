"""Linkwitz–Riley crossovers: the three filters of one border, and what a run of bands keeps of its source.

A border of 12, 24 or 48 dB per octave is a Butterworth filter of order 1, 2 or 4 applied twice (S. Linkwitz,
"Active Crossover Networks for Noncoincident Drivers", JAES 24/1, 1976): both sides are -6.02 dB at the border and
their sum is an all-pass. With L and H the two sides (H inverted for 12 dB), A = L + H.

Bands of several borders form a tree that is cut from below: band b keeps H₀ … H(b-1) · L(b) · A(b+1) … A(N-1).
The sum of all bands is then A₀ A₁ … A(N-1) exactly, for any borders however close (induction over the borders).
High-passing band b at its lower border only, with all-passes elsewhere, would leave L(j)·H(k) for j < k over:
1.2 dB at borders a third of an octave apart.

A linear-phase border has L + H = 1: its A is nothing at all. Borders of both kinds mix freely.

A run of bands from f to l keeps the sum of those bands, H₀ … H(f-1) · M · A(l+1) … with
M = A(f) … A(l) - H(f) … H(l), since the bands from f upwards sum to A(f) … A(l) up to border l and H(f) … H(l) is
what lies above l. Layers whose runs tile the bands therefore sum to the same all-pass, however they are cut.

A border with overlap has its two edges apart: the layer below ends above it, the layer above begins below it. What
lies within a run keeps the border as it is; only edges move. The sum then has a bump, which `cut_response` shows.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.filters import (
    NO_SECTIONS,
    Sections,
    analogue_section,
    butterworth_qs,
    filtered,
    heard_frames,
    high_pass,
    low_pass,
    sections_response,
    settle_frames,
)
from apilado.core.dsp.linear_phase import Taps, low_side

SLOPES_DB_PER_OCTAVE = (12, 24, 48)
LOWEST_BORDER_HZ, HIGHEST_BORDER_HZ = 30.0, 16000.0
CLOSEST_BORDERS = 2.0 ** (1.0 / 3.0)
"""How far apart two borders are at least, as a ratio: a third of an octave."""


@dataclass(frozen=True, eq=False)
class Part:
    """Filters in a row: sections, then symmetric taps."""

    sections: Sections = field(default_factory=lambda: NO_SECTIONS)
    taps: tuple[Taps, ...] = ()

    def response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        """Complex response at each frequency."""
        total = sections_response(self.sections, frequencies_hz, rate_hz)
        for taps in self.taps:
            total = total * taps.response(frequencies_hz, rate_hz)
        return total

    def rings_frames(self) -> float:
        """For how many frames it rings; what has taps rings as long ahead."""
        return settle_frames(self.sections) + sum(len(taps.taps) / 2.0 for taps in self.taps)

    def heard_frames(self) -> int:
        """For how many frames what went into its sections is heard; of what has no taps."""
        return heard_frames(self.sections)

    def run(self, audio: Audio, *, looped: bool) -> Audio:
        """The filtered audio, same shape."""
        audio = filtered(audio, self.sections, looped=looped)
        for taps in self.taps:
            audio = taps.run(audio, looped=looped)
        return audio


def in_a_row(parts: Sequence[Part]) -> Part:
    """All filters of some parts, one after the other."""
    sections = [part.sections for part in parts]
    return Part(np.vstack(sections) if sections else NO_SECTIONS, tuple(taps for part in parts for taps in part.taps))


@dataclass(frozen=True, eq=False)
class Border:
    """The filters of one crossover: what an edge keeps, and what those keep that reach over it."""

    low: Part
    high: Part
    whole: Part
    edge_low: Part
    edge_high: Part

    @property
    def overlaps(self) -> bool:
        """Whether its edges are apart."""
        return self.edge_low is not self.low


@lru_cache(maxsize=256)
def border(
    frequency_hz: float,
    slope_db_per_octave: int,
    rate_hz: int,
    *,
    kind: str = "minimum-phase",
    overlap_octaves: float = 0.0,
) -> Border:
    """A crossover at a frequency; with overlap its edges lie half of it to either side.

    Raises:
        ValueError: the slope is not 12, 24 or 48, the kind unknown, or the frequency not below half the rate.
    """
    if slope_db_per_octave not in SLOPES_DB_PER_OCTAVE:
        raise ValueError(f"a slope is one of {SLOPES_DB_PER_OCTAVE} dB/octave, not {slope_db_per_octave}")
    if not 0.0 < frequency_hz < rate_hz / 2:
        raise ValueError(f"a crossover lies below half the rate of {rate_hz} Hz, not at {frequency_hz} Hz")
    if kind == "minimum-phase":
        sides = linkwitz_riley
    elif kind == "linear-phase":
        sides = linear_phase
    else:
        raise ValueError(f"a crossover is minimum-phase or linear-phase, not {kind}")
    low, high, whole = sides(frequency_hz, slope_db_per_octave, rate_hz)
    if overlap_octaves <= 0.0:
        return Border(low, high, whole, low, high)
    apart = 2.0 ** (overlap_octaves / 2.0)
    edge_low = sides(min(frequency_hz * apart, 0.49 * rate_hz), slope_db_per_octave, rate_hz)[0]
    edge_high = sides(frequency_hz / apart, slope_db_per_octave, rate_hz)[1]
    return Border(low, high, whole, edge_low, edge_high)


def linkwitz_riley(frequency_hz: float, slope_db_per_octave: int, rate_hz: int) -> tuple[Part, Part, Part]:
    """Low side, high side and their sum of a minimum-phase Linkwitz–Riley border."""
    if slope_db_per_octave == 12:
        # Two first-order filters: 1/(s+1)², -s²/(s+1)², and their sum (1-s)/(1+s).
        squared = (1.0, 2.0, 1.0)
        return (
            Part(analogue_section((0.0, 0.0, 1.0), squared, frequency_hz, rate_hz)),
            Part(analogue_section((-1.0, 0.0, 0.0), squared, frequency_hz, rate_hz)),
            Part(analogue_section((-1.0, 0.0, 1.0), squared, frequency_hz, rate_hz)),
        )
    qs = butterworth_qs(slope_db_per_octave // 12)
    lows = [low_pass(frequency_hz, q, rate_hz) for q in qs for _ in range(2)]
    highs = [high_pass(frequency_hz, q, rate_hz) for q in qs for _ in range(2)]
    wholes = [analogue_section((1.0, -1.0 / q, 1.0), (1.0, 1.0 / q, 1.0), frequency_hz, rate_hz) for q in qs]
    return Part(np.vstack(lows)), Part(np.vstack(highs)), Part(np.vstack(wholes))


def linear_phase(frequency_hz: float, slope_db_per_octave: int, rate_hz: int) -> tuple[Part, Part, Part]:
    """Low side, high side and their sum (nothing at all) of a linear-phase border."""
    low = low_side(frequency_hz, slope_db_per_octave, rate_hz)
    return Part(taps=(low,)), Part(taps=(Taps(low.taps, rest=True),)), Part()


@dataclass(frozen=True, eq=False)
class Cut:
    """What a run of bands keeps of its source: `common`, then the sum of the paths, each with its sign."""

    common: Part
    paths: tuple[tuple[float, Part], ...]


def cut(borders: tuple[Border, ...], first: int, last: int) -> Cut:
    """The filters that keep bands `first` to `last` (from 0) of the bands between the borders.

    Raises:
        ValueError: the run does not lie within the bands.
    """
    top = len(borders)
    if not 0 <= first <= last <= top:
        raise ValueError(f"a run of bands lies within 0 to {top}, not {first} to {last}")
    below = [b.high for b in borders[: max(0, first - 1)]] + [b.edge_high for b in borders[max(0, first - 1) : first]]
    common = in_a_row(below + [b.whole for b in borders[last + 1 :]])
    inside = borders[first : last + 1]
    whole = in_a_row([b.whole for b in inside])
    if last == top:
        return Cut(common, ((1.0, whole),))
    if first == last:
        return Cut(common, ((1.0, borders[last].edge_low),))
    if not borders[last].overlaps:
        return Cut(common, ((1.0, whole), (-1.0, in_a_row([b.high for b in inside]))))
    # The highest band of the run has an edge of its own: the bands are kept one by one.
    single = []
    for band in range(first, last + 1):
        kept = borders[band].edge_low if band == last else borders[band].low
        row = [*[b.high for b in borders[first:band]], kept, *[b.whole for b in borders[band + 1 : last + 1]]]
        single.append((1.0, in_a_row(row)))
    return Cut(common, tuple(single))


def cut_response(piece: Cut, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
    """Complex response of a cut at each frequency."""
    kept = np.zeros(frequencies_hz.shape, np.complex128)
    for sign, path in piece.paths:
        kept += sign * path.response(frequencies_hz, rate_hz)
    return kept * piece.common.response(frequencies_hz, rate_hz)


def split(audio: Audio, piece: Cut, *, looped: bool) -> Audio:
    """The part of the audio that a cut keeps; shape unchanged."""
    if len(piece.paths) == 1:
        return in_a_row([piece.common, piece.paths[0][1]]).run(audio, looped=looped)
    common = piece.common.run(audio, looped=looped)
    total = np.zeros_like(common)
    for sign, path in piece.paths:
        part = path.run(common, looped=looped)
        total = total + part if sign > 0.0 else total - part
    return total
