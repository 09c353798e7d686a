"""What is left of each layer on other systems, from what was measured of it here and what each place passes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.filters import sections_response
from apilado.core.identity import ByIdentity
from apilado.core.measure.bands import band_centres
from apilado.core.measure.loudness import OFFSET_LKFS, QUIETEST_LKFS, k_weighting
from apilado.core.measure.stem import THIRD, StemMeasures
from apilado.core.render.elsewhere import PLACES, Place
from apilado.core.soundings.measures import Measures
from apilado.core.units import power_to_db

_PASSED = ByIdentity(32)
"""What places pass, by place, frequencies and rate."""


@dataclass(frozen=True)
class LeftThere:
    """What a place leaves of a stack."""

    place: Place
    layers: dict[str, float]
    """By how many LU each heard layer is louder (or, below 0, quieter) there than here, by its id."""
    bass_lu: float
    """The same of the whole bass."""
    passes_db: NDArray[np.float64]
    """What the place makes of each third-octave from 20 Hz to 20 kHz."""


def power_passed(place: Place, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.float64]:
    """What a place's response leaves of power at each frequency; its room and its limiter are not in it."""

    def reckoned() -> NDArray[np.float64]:
        return np.asarray(np.square(np.abs(place.response(frequencies_hz, rate_hz))), np.float64)

    return _PASSED.get(reckoned, place, frequencies_hz, beside=rate_hz)


def loudness_through(stem: StemMeasures, place: Place | None, rate_hz: int) -> float:
    """Loudness in LKFS of a stem behind a place's response and width, not gated; None: as it is here."""
    kept = 1.0 if place is None else place.width**2
    total = stem.mid_power + stem.side_power
    share = np.divide(stem.mid_power + kept * stem.side_power, total, out=np.ones_like(total), where=total > 1e-15)

    def leaves(frequencies_hz: NDArray[np.float64]) -> NDArray[np.float64]:
        weighted = np.square(np.abs(sections_response(k_weighting(rate_hz), frequencies_hz, rate_hz)))
        passed = 1.0 if place is None else power_passed(place, frequencies_hz, rate_hz)
        return np.asarray(weighted * passed * np.interp(frequencies_hz, band_centres(THIRD), share))

    power = stem.power_through(leaves)
    return OFFSET_LKFS + 10.0 * math.log10(power) if power > 1e-15 else QUIETEST_LKFS


def left_elsewhere(measures: Measures) -> list[LeftThere]:
    """What each place leaves of each layer that is heard and of the whole bass; the room and the limiter left out."""
    rate, centres = measures.clock.rate_hz, band_centres(THIRD)
    here = {name: loudness_through(stem, None, rate) for name, stem in measures.stems.items()}
    bass = loudness_through(measures.bass, None, rate)
    found = []
    for place in PLACES:
        layers = {name: loudness_through(stem, place, rate) - here[name] for name, stem in measures.stems.items()}
        whole = loudness_through(measures.bass, place, rate) - bass
        found.append(LeftThere(place, layers, whole, np.asarray(power_to_db(power_passed(place, centres, rate)))))
    return found
