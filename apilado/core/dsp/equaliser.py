"""EQ sections after the W3C note "Audio EQ Cookbook" (R. Bristow-Johnson), and Butterworth cuts.

Every value may be a number or an array of what it is at the knots of a movement: shape (sections, 5) or
(knots, sections, 5).
"""

from __future__ import annotations

import math

import numpy as np

from apilado.core.dsp.filters import (
    Knots,
    Sections,
    analogue_section,
    butterworth_qs,
    first_order_section,
    high_pass,
    in_cascade,
    low_pass,
)


def _sqrt(value: Knots) -> Knots:
    return np.sqrt(value) if isinstance(value, np.ndarray) else math.sqrt(value)


def bell(frequency_hz: Knots, gain_db: Knots, q: Knots, rate_hz: int) -> Sections:
    """Peaking EQ: H(s) = (s² + s·A/Q + 1)/(s² + s/(A·Q) + 1), A = 10^(gain/40)."""
    a = 10.0 ** (gain_db / 40.0)
    return analogue_section((1.0, a / q, 1.0), (1.0, 1.0 / (a * q), 1.0), frequency_hz, rate_hz)


def low_shelf(frequency_hz: Knots, gain_db: Knots, q: Knots, rate_hz: int) -> Sections:
    """H(s) = A·(s² + s·√A/Q + A)/(A·s² + s·√A/Q + 1)."""
    a = 10.0 ** (gain_db / 40.0)
    w = _sqrt(a) / q
    return analogue_section((a, a * w, a * a), (a, w, 1.0), frequency_hz, rate_hz)


def high_shelf(frequency_hz: Knots, gain_db: Knots, q: Knots, rate_hz: int) -> Sections:
    """H(s) = A·(A·s² + s·√A/Q + 1)/(s² + s·√A/Q + A)."""
    a = 10.0 ** (gain_db / 40.0)
    w = _sqrt(a) / q
    return analogue_section((a * a, a * w, a), (1.0, w, a), frequency_hz, rate_hz)


def notch(frequency_hz: Knots, q: Knots, rate_hz: int) -> Sections:
    """H(s) = (s² + 1)/(s² + s/Q + 1)."""
    return analogue_section((1.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0), frequency_hz, rate_hz)


def band_pass(frequency_hz: Knots, q: Knots, rate_hz: int) -> Sections:
    """H(s) = (s/Q)/(s² + s/Q + 1): 0 dB at its frequency."""
    return analogue_section((0.0, 1.0 / q, 0.0), (1.0, 1.0 / q, 1.0), frequency_hz, rate_hz)


def tilt(frequency_hz: Knots, gain_db: Knots, rate_hz: int) -> Sections:
    """H(s) = (A·s + 1)/(s + A), A = 10^(gain/20): A far above the frequency, 1/A far below, 1 at it."""
    a = 10.0 ** (gain_db / 20.0)
    return first_order_section((a, 1.0), (1.0, a), frequency_hz, rate_hz)


SENT_SLOPE = 24
"""dB per octave below the lowest border, of what a bus sends to a space."""


def butterworth_high_pass(frequency_hz: Knots, slope_db_per_octave: int, rate_hz: int) -> Sections:
    """Butterworth high-pass of a multiple of 6 dB per octave, -3.01 dB at the frequency."""
    order = slope_db_per_octave // 6
    single = [first_order_section((1.0, 0.0), (1.0, 1.0), frequency_hz, rate_hz)] if order % 2 else []
    return in_cascade(*single, *[high_pass(frequency_hz, q, rate_hz) for q in butterworth_qs(order)])


def butterworth_low_pass(frequency_hz: Knots, slope_db_per_octave: int, rate_hz: int) -> Sections:
    """Butterworth low-pass of a multiple of 6 dB per octave, -3.01 dB at the frequency."""
    order = slope_db_per_octave // 6
    single = [first_order_section((0.0, 1.0), (1.0, 1.0), frequency_hz, rate_hz)] if order % 2 else []
    return in_cascade(*single, *[low_pass(frequency_hz, q, rate_hz) for q in butterworth_qs(order)])
