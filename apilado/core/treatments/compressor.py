"""Treatment: a compressor that listens to its own input."""

from __future__ import annotations

from typing import ClassVar, Literal

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.dynamics import Detector, reduced, whole_reduction
from apilado.core.parameters import number
from apilado.core.treatments.base import Treatment, blended
from apilado.core.units import db_to_gain


class Compressor(Treatment):
    """Feed-forward peak compressor, both channels turned down together."""

    label: ClassVar[str] = "Compressor"

    kind: Literal["compressor"] = "compressor"
    threshold_db: float = number(-18.0, low=-60.0, high=0.0, step=0.1, unit="dB", label="Threshold")
    ratio: float = number(3.0, low=1.0, high=20.0, step=0.1, scale="log", unit=":1", label="Ratio")
    knee_db: float = number(6.0, low=0.0, high=24.0, step=0.1, unit="dB", label="Knee")
    attack_ms: float = number(10.0, low=0.0, high=200.0, step=0.1, unit="ms", label="Attack")
    release_ms: float = number(120.0, low=5.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Release")
    makeup_db: float = number(0.0, low=-12.0, high=24.0, step=0.1, unit="dB", label="Make-up")
    blend: float = number(1.0, low=0.0, high=1.0, label="Blend")

    def process(self, audio: Audio, clock: Clock) -> Audio:
        detector = Detector(self.threshold_db, self.ratio, self.knee_db, self.attack_ms, self.release_ms)
        reduction = whole_reduction(audio, detector, rate_hz=clock.rate_hz, looped=clock.looped)
        wet = reduced(audio, reduction)
        return blended(audio, wet, blend=self.blend, wet_gain=float(db_to_gain(self.makeup_db)))
