"""Linkwitz–Riley crossovers: the three filters of one border, and what a run of bands keeps of its source.

A border of 12, 24 or 48 dB per octave is a Butterworth filter of order 1, 2 or 4 applied twice (S. Linkwitz,
"Active Crossover Networks for Noncoincident Drivers", JAES 24/1, 1976): both sides are -6.02 dB at the border and
their sum is an all-pass. With L and H the two sides (H inverted for 12 dB), A = L + H.

Bands of several borders form a tree that is cut from below: band b keeps H₀ … H(b-1) · L(b) · A(b+1) … A(N-1).
The sum of all bands is then A₀ A₁ … A(N-1) exactly, for any borders however close (induction over the borders).
High-passing band b at its lower border only, with all-passes elsewhere, would leave L(j)·H(k) for j < k over:
1.2 dB at borders a third of an octave apart.

A run of bands from f to l keeps the sum of those bands, H₀ … H(f-1) · M · A(l+1) … with
M = A(f) … A(l) - H(f) … H(l), since the bands from f upwards sum to A(f) … A(l) up to border l and H(f) … H(l) is
what lies above l. Layers whose runs tile the bands therefore sum to the same all-pass, however they are cut.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.filters import (
    NO_SECTIONS,
    Sections,
    analogue_section,
    butterworth_qs,
    filtered,
    high_pass,
    low_pass,
    sections_response,
)

SLOPES_DB_PER_OCTAVE = (12, 24, 48)


@dataclass(frozen=True)
class Border:
    """The filters of one crossover; each is an array of sections."""

    low: Sections
    high: Sections
    whole: Sections


def linkwitz_riley(frequency_hz: float, slope_db_per_octave: int, rate_hz: int) -> Border:
    """The minimum-phase Linkwitz–Riley border at a frequency.

    Raises:
        ValueError: the slope is not 12, 24 or 48, or the frequency not below half the rate.
    """
    if slope_db_per_octave not in SLOPES_DB_PER_OCTAVE:
        raise ValueError(f"a slope is one of {SLOPES_DB_PER_OCTAVE} dB/octave, not {slope_db_per_octave}")
    if not 0.0 < frequency_hz < rate_hz / 2:
        raise ValueError(f"a crossover lies below half the rate of {rate_hz} Hz, not at {frequency_hz} Hz")
    if slope_db_per_octave == 12:
        # Two first-order filters: 1/(s+1)², -s²/(s+1)², and their sum (1-s)/(1+s).
        squared = (1.0, 2.0, 1.0)
        return Border(
            low=analogue_section((0.0, 0.0, 1.0), squared, frequency_hz, rate_hz),
            high=analogue_section((-1.0, 0.0, 0.0), squared, frequency_hz, rate_hz),
            whole=analogue_section((-1.0, 0.0, 1.0), squared, frequency_hz, rate_hz),
        )
    qs = butterworth_qs(slope_db_per_octave // 12)
    lows = [low_pass(frequency_hz, q, rate_hz) for q in qs for _ in range(2)]
    highs = [high_pass(frequency_hz, q, rate_hz) for q in qs for _ in range(2)]
    wholes = [analogue_section((1.0, -1.0 / q, 1.0), (1.0, 1.0 / q, 1.0), frequency_hz, rate_hz) for q in qs]
    return Border(low=np.vstack(lows), high=np.vstack(highs), whole=np.vstack(wholes))


@dataclass(frozen=True)
class Cut:
    """What a run of bands keeps of its source: `common`, then `path`, less `removed` where that is not None."""

    common: Sections
    path: Sections
    removed: Sections | None


def cut(borders: tuple[Border, ...], first: int, last: int) -> Cut:
    """The filters that keep bands `first` to `last` (from 0) of the bands between the borders.

    Raises:
        ValueError: the run does not lie within the bands.
    """
    top = len(borders)
    if not 0 <= first <= last <= top:
        raise ValueError(f"a run of bands lies within 0 to {top}, not {first} to {last}")

    def stacked(parts: list[Sections]) -> Sections:
        return np.vstack(parts) if parts else NO_SECTIONS

    below = [border.high for border in borders[:first]]
    above = [border.whole for border in borders[last + 1 :]]
    common = stacked(below + above)
    inside = borders[first : last + 1]
    if last == top:
        return Cut(common, stacked([border.whole for border in inside]), None)
    if first == last:
        return Cut(common, borders[last].low, None)
    return Cut(common, stacked([b.whole for b in inside]), stacked([b.high for b in inside]))


def cut_response(piece: Cut, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
    """Complex response of a cut at each frequency."""
    kept = sections_response(piece.path, frequencies_hz, rate_hz)
    if piece.removed is not None:
        kept = kept - sections_response(piece.removed, frequencies_hz, rate_hz)
    return kept * sections_response(piece.common, frequencies_hz, rate_hz)


def split(audio: Audio, piece: Cut, *, rate_hz: int, looped: bool) -> Audio:
    """The part of the audio that a cut keeps; shape unchanged."""
    if piece.removed is None:
        both = np.vstack([piece.common, piece.path])
        return filtered(audio, both, rate_hz=rate_hz, looped=looped)
    common = filtered(audio, piece.common, rate_hz=rate_hz, looped=looped)
    path = filtered(common, piece.path, rate_hz=rate_hz, looped=looped)
    removed = filtered(common, piece.removed, rate_hz=rate_hz, looped=looped)
    return path - removed
