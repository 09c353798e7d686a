"""Elsewhere: what comes before the listener's ear where the stack is played on another system, in another room.

A place is a chain of the same steps that a bus can have: an EQ, a width, a limiter, a room, and a border below which it
is mono. What each does and where its figures come from is told in docs/dsp.md; a test holds them to it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.equaliser import Bell, HighPass, HighShelf, LowPass, LowShelf, Point, eq_sections
from apilado.core.document.path import AnyBusStep, Equaliser
from apilado.core.document.stack import Bus, Limiter, Stack
from apilado.core.dsp.filters import sections_response
from apilado.core.render.builder import Builder
from apilado.core.render.passed import Passed
from apilado.core.render.stage import Stage
from apilado.core.treatments.limiter import PeakLimiter
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.width_bands import WideBand, WidthBands
from apilado.errors import NotFound

NO_LIMITER = Limiter(on=False)


@dataclass(frozen=True)
class Place:
    """A system that the stack is played on."""

    key: str
    label: str
    heard: str
    """How it is told: 'on the phone'."""
    told: str
    """What it does, in a line."""
    bus: Bus
    width: float = 1.0
    """How much of what differs between the channels it keeps: 0 is mono. It is done first, by `chain`."""

    @property
    def chain(self) -> Bus:
        """All that a sound goes through there."""
        if self.width == 1.0:
            return self.bus
        bands = (WideBand(id="a", width=self.width), WideBand(id="b", from_hz=1000.0, width=self.width))
        narrower = WidthBands(id="there-width", bands=bands)
        return self.bus.model_copy(update={"path": (narrower, *self.bus.path)})

    @property
    def points(self) -> tuple[Point, ...]:
        """The points of its EQ."""
        return tuple(point for step in self.bus.path if isinstance(step, Equaliser) for point in step.points)

    def response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        """What its EQ makes of each frequency; its room and its limiter are not in it."""
        return sections_response(eq_sections(self.points, rate_hz), frequencies_hz, rate_hz)


def _eq(*points: Point) -> Equaliser:
    numbered = tuple(point.model_copy(update={"id": f"e{number}"}) for number, point in enumerate(points))
    return Equaliser(id="there-eq", points=numbered)


def _limit(gain_db: float, ceiling_db: float, release_ms: float) -> PeakLimiter:
    return PeakLimiter(id="there-limit", gain_db=gain_db, ceiling_db=ceiling_db, release_ms=release_ms)


def _room(decay_s: float, size_m: float, damping: float, before_ms: float, blend: float, low_cut_hz: float) -> Reverb:
    return Reverb(
        id="there-room",
        decay_s=decay_s,
        size_m=size_m,
        damping=damping,
        pre_delay_ms=before_ms,
        blend=blend,
        low_cut_hz=low_cut_hz,
    )


def _bus(*path: AnyBusStep, mono_below_hz: float = 0.0) -> Bus:
    return Bus(path=path, mono_below_hz=mono_below_hz, limiter=NO_LIMITER)


PHONE = Place(
    "phone",
    "Phone",
    "on the phone",
    "One small loudspeaker: nothing under 250 Hz, a peak in the presence, held under its excursion by a limiter.",
    _bus(
        _eq(
            HighPass(frequency_hz=250.0, slope_db_per_octave=24),
            Bell(frequency_hz=2800.0, gain_db=4.0, q=1.0),
            LowPass(frequency_hz=14000.0, slope_db_per_octave=12),
        ),
        _limit(6.0, -3.0, 60.0),
    ),
    width=0.0,
)

PLACES: tuple[Place, ...] = (
    PHONE,
    Place(
        "laptop",
        "Laptop",
        "on the laptop",
        "Two small loudspeakers a hand apart: little under 160 Hz, boxy at 800 Hz, half as wide.",
        _bus(
            _eq(
                HighPass(frequency_hz=160.0, slope_db_per_octave=24),
                Bell(frequency_hz=800.0, gain_db=3.0, q=1.2),
                HighShelf(frequency_hz=9000.0, gain_db=-4.0, q=0.7),
            ),
            _limit(4.0, -2.0, 80.0),
        ),
        width=0.5,
    ),
    Place(
        "radio",
        "Small radio",
        "on the small radio",
        "One cone in a small box: a resonance at 140 Hz, nothing under it, dull above 7 kHz.",
        _bus(
            _eq(
                HighPass(frequency_hz=120.0, slope_db_per_octave=12),
                Bell(frequency_hz=140.0, gain_db=5.0, q=2.0),
                Bell(frequency_hz=400.0, gain_db=2.0, q=0.8),
                LowPass(frequency_hz=7000.0, slope_db_per_octave=12),
            ),
            _limit(3.0, -2.0, 80.0),
        ),
        width=0.0,
    ),
    Place(
        "car",
        "Car",
        "in the car",
        "A closed cabin: it lifts all that is longer than itself, booms at 110 Hz and swallows the top.",
        _bus(
            _eq(
                LowShelf(frequency_hz=63.0, gain_db=9.0, q=0.7),
                Bell(frequency_hz=110.0, gain_db=4.0, q=2.0),
                Bell(frequency_hz=250.0, gain_db=-3.0, q=1.0),
                HighShelf(frequency_hz=6000.0, gain_db=-4.0, q=0.7),
            ),
            _room(0.15, 2.0, 0.7, 1.0, 0.15, 150.0),
        ),
        width=0.8,
    ),
    Place(
        "club",
        "Club rig",
        "on the club rig",
        "Stacks of subwoofers, 6 dB over the rest, mono below 120 Hz, nothing under 32 Hz, in a hall of 1.4 s.",
        _bus(
            _eq(
                HighPass(frequency_hz=32.0, slope_db_per_octave=24),
                LowShelf(frequency_hz=90.0, gain_db=6.0, q=0.7),
                HighShelf(frequency_hz=8000.0, gain_db=-2.0, q=0.7),
            ),
            _room(1.4, 18.0, 0.2, 12.0, 0.12, 120.0),
            _limit(3.0, -1.0, 150.0),
            mono_below_hz=120.0,
        ),
    ),
    Place(
        "room",
        "Living room",
        "in the living room",
        "Bookshelf loudspeakers in a room of 5 by 4 by 2.5 m: its three lowest modes, and 0.4 s of it.",
        _bus(
            _eq(
                HighPass(frequency_hz=45.0, slope_db_per_octave=12),
                Bell(frequency_hz=34.3, gain_db=4.0, q=8.0),
                Bell(frequency_hz=42.9, gain_db=5.0, q=8.0),
                Bell(frequency_hz=68.6, gain_db=5.0, q=8.0),
                Bell(frequency_hz=180.0, gain_db=-3.0, q=1.5),
            ),
            _room(0.4, 3.3, 0.4, 4.0, 0.2, 100.0),
        ),
    ),
    Place(
        "earbuds",
        "Earbuds",
        "in earbuds",
        "A bass shelf of 5 dB, a presence of 3 dB, the full width; down to 20 Hz.",
        _bus(
            _eq(
                LowShelf(frequency_hz=105.0, gain_db=5.0, q=0.7),
                Bell(frequency_hz=220.0, gain_db=-1.5, q=0.8),
                Bell(frequency_hz=2800.0, gain_db=3.0, q=1.0),
            ),
        ),
    ),
    Place("mono", "Mono", "in mono", "Both channels in one, and nothing else.", _bus(), 0.0),
)


def place_of(key: str) -> Place:
    """A place by its key.

    Raises:
        NotFound: there is none of that name.
    """
    for place in PLACES:
        if place.key == key:
            return place
    raise NotFound(f"there is no place called '{key}' to listen in; there are {', '.join(p.key for p in PLACES)}")


def heard_at(
    place: Place, sound: Stage, stack: Stack, clock: Clock, load: AssetLoader
) -> tuple[Stage, dict[str, Passed]]:
    """(a sound as it is heard in a place, the steps that it goes through there by their addresses)."""
    chain = stack.model_copy(update={"layers": (), "movements": (), "sections": (), "duckers": (), "bus": place.chain})
    builder = Builder(chain, clock, load)
    return builder.bus(sound), builder.passed
