"""Treatment: gentle saturation, with as much asymmetry as is asked for."""

from __future__ import annotations

from functools import partial
from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value, least, mapped
from apilado.core.dsp.oversampling import Shaper
from apilado.core.dsp.shapers import saturated, saturated_between
from apilado.core.parameters import number
from apilado.core.sketch import Sketch, transfer_inputs, transfer_sketch
from apilado.core.treatments.drive import Drive
from apilado.core.units import db_to_gain


class Saturation(Drive):
    """A hyperbolic tangent about a bias: odd harmonics, and even ones as the bias grows. Quiet sound passes at 0 dB."""

    label: ClassVar[str] = "Saturation"
    dc_goes: ClassVar[Literal["of all", "of what is added", ""]] = "of all"
    explains: ClassVar[str] = "Warms gently; even harmonics with bias, quiet sound passes as it is"
    leading: ClassVar[tuple[str, ...]] = ("drive_db", "bias", "blend", "output_db")

    kind: Literal["saturation"] = "saturation"
    drive_db: Annotated[Value, number(low=0.0, high=24.0, step=0.1, unit="dB", label="Drive", moves=True)] = 4.0
    bias: Annotated[float, number(low=0.0, high=0.9, label="Bias", help="0: odd harmonics only")] = 0.15
    output_db: Annotated[Value, number(low=-24.0, high=12.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0

    def shaper(self, gain: float) -> tuple[Shaper, Shaper | None]:
        bias = self.bias
        return partial(saturated, drive=gain, bias=bias), partial(saturated_between, drive=gain, bias=bias)

    def driven(self, audio: Audio, clock: Clock) -> Audio:
        gain, wet = mapped(self.drive_db, db_to_gain), super().driven(audio, clock)
        if isinstance(gain, Curve):  # the curve gives back what its drive turns up
            wet *= (1.0 / gain.per_frame()).astype(np.float32)
        return wet

    def sketch(self) -> Sketch:
        out = self.shaper(float(db_to_gain(least(self.drive_db))))[0](transfer_inputs())
        return transfer_sketch(out / max(1.0, float(np.max(np.abs(out)))))
