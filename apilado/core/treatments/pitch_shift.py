"""Treatment: another pitch."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value
from apilado.core.dsp.repitching import repitched
from apilado.core.parameters import number
from apilado.core.treatments.base import Treatment, Turning, blended
from apilado.core.units import cents_to_ratio

RINGS_S = 0.25
"""What is stretched spreads by no more."""


class PitchShift(Treatment):
    """Higher or lower at the same length. Notes, or the sound as a whole, keep their time."""

    label: ClassVar[str] = "Pitch shift"
    family: ClassVar[str] = "Modulation"
    explains: ClassVar[str] = (
        "Higher or lower by semitones and cents at the same length; made as a whole, so heard a little later"
    )
    blurs: ClassVar[bool] = True
    leading: ClassVar[tuple[str, ...]] = ("semitones", "cents", "blend", "output_db")

    kind: Literal["pitch-shift"] = "pitch-shift"
    semitones: Annotated[float, number(low=-24.0, high=24.0, step=1.0, unit="st", label="Semitones")] = 0.0
    cents: Annotated[float, number(low=-100.0, high=100.0, step=0.1, unit="cents", label="Cents")] = 0.0
    output_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", moves=True)] = 1.0

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        if isinstance(self.blend, float) and self.blend == 0.0:
            return audio
        ratio = float(cents_to_ratio(100.0 * self.semitones + self.cents))
        wet = audio if ratio == 1.0 else repitched(audio, ratio, rate_hz=clock.rate_hz, looped=clock.looped)
        return blended(audio, wet, blend=self.blend, output_db=self.output_db)

    def turns_phase(self) -> Turning:
        return "moving"

    def tail_seconds(self, clock: Clock) -> float:
        return RINGS_S

    def memory_seconds(self, clock: Clock) -> float:
        return math.inf if self.semitones or self.cents else 0.0

    def in_words(self) -> str:
        cents = f" {self.cents:+g} cents" if self.cents else ""
        return f"{self.semitones:+g} st{cents}".replace("-", "−")
