"""Treatment: a room."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.assets import AssetLoader, no_assets
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio, as_stereo
from apilado.core.dsp.curves import Value
from apilado.core.dsp.filters import (
    HEARD_OF_A_TAIL,
    NO_SECTIONS,
    Sections,
    butterworth_qs,
    filtered,
    high_pass,
    in_cascade,
    low_pass,
    sections_response,
    settle_frames,
)
from apilado.core.dsp.rooms import Room, in_room
from apilado.core.dsp.stereo import moved, placed
from apilado.core.parameters import number
from apilado.core.sketch import Sketch, decay_sketch
from apilado.core.treatments.base import Treatment, Turning, blended
from apilado.core.units import short_hz

HIGHEST_HZ = 20000.0


class Reverb(Treatment):
    """A room of a size, that dies away in a time; with a low and a high cut of its own."""

    label: ClassVar[str] = "Reverb"
    family: ClassVar[str] = "Time"
    explains: ClassVar[str] = "A room, with a low cut that keeps it out of the bass; before a drive it is a texture"
    rings_on: ClassVar[bool] = True
    widens: ClassVar[bool] = True
    blurs: ClassVar[bool] = True
    leading: ClassVar[tuple[str, ...]] = ("decay_s", "size_m", "low_cut_hz", "damping", "blend")

    kind: Literal["reverb"] = "reverb"
    pre_delay_ms: Annotated[float, number(low=0.0, high=250.0, step=0.1, unit="ms", label="Pre-delay")] = 10.0
    decay_s: Annotated[
        float,
        number(
            low=0.1, high=20.0, step=0.01, scale="log", unit="s", label="Decay", help="RT60: until it is 60 dB down"
        ),
    ] = 1.2
    size_m: Annotated[
        float,
        number(
            low=2.0, high=60.0, step=0.1, scale="log", unit="m", label="Size", help="Mean way from one wall to another"
        ),
    ] = 10.0
    damping: Annotated[float, number(low=0.0, high=1.0, label="Damping", help="How much sooner the top dies away")] = (
        0.3
    )
    low_cut_hz: Annotated[
        float,
        number(
            low=0.0,
            high=2000.0,
            step=1.0,
            unit="Hz",
            label="Low cut",
            help="24 dB per octave; nothing of it lies below",
        ),
    ] = 200.0
    high_cut_hz: Annotated[
        float,
        number(
            low=500.0,
            high=HIGHEST_HZ,
            step=1.0,
            scale="log",
            unit="Hz",
            label="High cut",
            help="12 dB per octave; off at 20 kHz",
        ),
    ] = 9000.0
    width: Annotated[Value, number(low=0.0, high=2.0, label="Width", help="0 is mono", moves=True)] = 1.0
    output_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", help="1: the room alone", moves=True)] = 0.25

    def _room(self) -> Room:
        return Room(self.decay_s, self.size_m, self.damping)

    def _cuts(self, rate_hz: int) -> Sections:
        low = [high_pass(self.low_cut_hz, q, rate_hz) for q in butterworth_qs(4)] if self.low_cut_hz > 0.0 else []
        high = [low_pass(self.high_cut_hz, q, rate_hz) for q in butterworth_qs(2)]
        high = high if self.high_cut_hz < HIGHEST_HZ else []
        return in_cascade(*low, *high) if low or high else NO_SECTIONS

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        if isinstance(self.blend, float) and self.blend == 0.0:
            return audio
        wet = self._given_back(audio, clock)
        if self.width != 1.0:
            wet = placed(wet, width=self.width, mono=False, pan=0.0, gain=1.0)
        return blended(audio, wet, blend=self.blend, output_db=self.output_db, in_place=True)

    def _given_back(self, audio: Audio, clock: Clock) -> Audio:
        # What a room makes of a sound that was cut is what is left of the room's: cut first, the lines hold less.
        late = moved(
            filtered(audio, self._cuts(clock.rate_hz), looped=clock.looped),
            float(clock.samples_in_ms(self.pre_delay_ms)),
            looped=clock.looped,
        )
        return in_room(as_stereo(late), self._room(), rate_hz=clock.rate_hz, looped=clock.looped)

    def _filter_seconds(self, clock: Clock) -> float:
        sections = self._cuts(clock.rate_hz)
        return settle_frames(sections) / clock.rate_hz if len(sections) else 0.0

    def response(
        self, frequencies_hz: NDArray[np.float64], rate_hz: int, load: AssetLoader = no_assets
    ) -> NDArray[np.complex128]:
        """What its low and high cut leave of the room."""
        return sections_response(self._cuts(rate_hz), frequencies_hz, rate_hz)

    def tail_seconds(self, clock: Clock) -> float:
        return self._room().rings_seconds() + self.pre_delay_ms / 1000.0 + self._filter_seconds(clock)

    def memory_seconds(self, clock: Clock) -> float:
        heard = 0.6 * self._room().rings_seconds() + self.pre_delay_ms / 1000.0
        return heard + HEARD_OF_A_TAIL * self._filter_seconds(clock)

    def turns_phase(self) -> Turning:
        return "moving"

    def mono_ways(self, border_hz: float) -> dict[str, float]:
        return {"low_cut_hz": min(2000.0, 1.5 * border_hz)}

    def sketch(self) -> Sketch:
        return decay_sketch(self.decay_s, begins_s=self.pre_delay_ms / 1000.0)

    def in_words(self) -> str:
        low = f", from {short_hz(self.low_cut_hz)}" if self.low_cut_hz > 0.0 else ""
        return f"{self.decay_s:g} s, {self.size_m:g} m{low}"
