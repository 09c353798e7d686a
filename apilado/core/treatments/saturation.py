"""Treatment: gentle saturation, with as much asymmetry as is asked for."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value, least, mapped, pushed
from apilado.core.dsp.filters import DC_MEMORY_S, dc_blocker, settle_frames, without_dc
from apilado.core.dsp.oversampling import oversampled
from apilado.core.dsp.shapers import saturated
from apilado.core.parameters import choice, number
from apilado.core.sketch import Sketch, transfer_inputs, transfer_sketch
from apilado.core.treatments.base import Treatment, blended
from apilado.core.units import db_to_gain


class Saturation(Treatment):
    """A hyperbolic tangent about a bias: odd harmonics, and even ones as the bias grows. Quiet sound passes at 0 dB."""

    label: ClassVar[str] = "Saturation"
    family: ClassVar[str] = "Drive"
    explains: ClassVar[str] = "Warms gently; even harmonics with bias, quiet sound passes as it is"
    leading: ClassVar[tuple[str, ...]] = ("drive_db", "bias", "blend", "output_db")

    kind: Literal["saturation"] = "saturation"
    drive_db: Annotated[Value, number(low=0.0, high=24.0, step=0.1, unit="dB", label="Drive", moves=True)] = 4.0
    bias: Annotated[float, number(low=0.0, high=0.9, label="Bias", help="0: odd harmonics only")] = 0.15
    output_db: Annotated[Value, number(low=-24.0, high=12.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", moves=True)] = 1.0
    oversampling: Annotated[Literal[1, 2, 4, 8], choice(label="Oversampling", unit="×")] = 4

    def process(self, audio: Audio, clock: Clock) -> Audio:
        gain = mapped(self.drive_db, db_to_gain)
        driven, drive = pushed(audio, gain)
        wet = oversampled(driven, self.oversampling, lambda x: saturated(x, drive, self.bias), looped=clock.looped)
        if isinstance(gain, Curve):  # the curve gives back what its drive turns up
            wet = wet * (1.0 / gain.per_frame()).astype(np.float32)
        wet = without_dc(wet, clock.rate_hz, looped=clock.looped, midway=clock.begins is not None)
        return blended(audio, wet, blend=self.blend, output_db=self.output_db)

    def sketch(self) -> Sketch:
        drive = float(db_to_gain(least(self.drive_db)))
        out = saturated(transfer_inputs(), drive, self.bias)
        return transfer_sketch(out / max(1.0, float(np.max(np.abs(out)))))

    def tail_seconds(self, clock: Clock) -> float:
        return settle_frames(dc_blocker(clock.rate_hz)) / clock.rate_hz

    def memory_seconds(self, clock: Clock) -> float:
        return DC_MEMORY_S
