"""What all treatments share that widen a sound: how much of what they add is in the middle below a border."""

from __future__ import annotations

from typing import Annotated, ClassVar

import numpy as np

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
    settle_frames,
)
from apilado.core.parameters import number
from apilado.core.treatments.base import Treatment, Turning, blended


class Widening(Treatment):
    """A treatment whose wet sound differs left and right. Subclasses override `wet` and `wet_seconds`.

    What its wet sound holds at its sides goes through a high-pass of 24 dB per octave; its middle is left as it is, so
    the sum of both channels does not know of the border.
    """

    family: ClassVar[str] = "Modulation"
    widens: ClassVar[bool] = True
    blurs: ClassVar[bool] = True

    output_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", moves=True)] = 0.5
    mono_below_hz: Annotated[
        float,
        number(
            low=0.0,
            high=1000.0,
            step=1.0,
            unit="Hz",
            label="Mono below",
            help="What it adds is in the middle below; 0 is off",
        ),
    ] = 120.0

    def wet(self, audio: Audio, clock: Clock) -> Audio:
        """What it makes of a sound in two channels, shape (2, frames)."""
        raise NotImplementedError

    def wet_seconds(self, clock: Clock) -> float:
        """For how long that sounds on."""
        raise NotImplementedError

    def mixed(self, dry: Audio, wet: Audio) -> Audio:
        """Both together."""
        return blended(dry, wet, blend=self.blend, output_db=self.output_db)

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        if isinstance(self.blend, float) and self.blend == 0.0:
            return audio
        both = as_stereo(audio)
        wet = self.wet(both, clock)
        sections = self._side_filter(clock.rate_hz)
        if len(sections):
            half = np.float32(0.5)
            mid, side = half * (wet[0] + wet[1]), half * (wet[0] - wet[1])
            side = filtered(side.reshape(1, -1), sections, looped=clock.looped)[0]
            wet = np.stack([mid + side, mid - side])
        return self.mixed(both, wet)

    def turns_phase(self) -> Turning:
        return "moving"

    def mono_ways(self, border_hz: float) -> dict[str, float]:
        return {"mono_below_hz": min(1000.0, 1.5 * border_hz)}

    def _side_filter(self, rate_hz: int) -> Sections:
        if self.mono_below_hz <= 0.0:
            return NO_SECTIONS
        return in_cascade(*[high_pass(self.mono_below_hz, q, rate_hz) for q in butterworth_qs(4)])

    def _side_seconds(self, clock: Clock) -> float:
        sections = self._side_filter(clock.rate_hz)
        return settle_frames(sections) / clock.rate_hz if len(sections) else 0.0

    def tail_seconds(self, clock: Clock) -> float:
        return self.wet_seconds(clock) + self._side_seconds(clock)

    def memory_seconds(self, clock: Clock) -> float:
        return 0.6 * self.wet_seconds(clock) + HEARD_OF_A_TAIL * self._side_seconds(clock)


class Swinging(Widening):
    """One of them in which something swings to and fro, left and right apart."""

    speed_hz: Annotated[
        float,
        number(
            low=0.02,
            high=10.0,
            step=0.01,
            scale="log",
            unit="Hz",
            label="Speed",
            help="A whole number of times in the piece, so that its end goes over into its beginning",
        ),
    ] = 0.5
    feedback: Annotated[Value, number(low=-0.95, high=0.95, label="Feedback", moves=True)] = 0.0
    spread: Annotated[float, number(low=0.0, high=1.0, label="Spread", help="How far left and right swing apart")] = 1.0
