"""Treatment: soft clipping, oversampled, blended with the clean signal."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least, mapped, pushed
from apilado.core.dsp.filters import DC_MEMORY_S, dc_blocker, settle_frames, without_dc
from apilado.core.dsp.oversampling import oversampled
from apilado.core.dsp.shapers import soft_clip, soft_clip_between
from apilado.core.parameters import choice, number
from apilado.core.sketch import Sketch, transfer_inputs, transfer_sketch
from apilado.core.treatments.base import Treatment, blended
from apilado.core.units import db_to_gain


class SoftClip(Treatment):
    """Smooth saturation: `drive_db` into the curve, `output_db` after it."""

    label: ClassVar[str] = "Soft clip"
    family: ClassVar[str] = "Drive"
    explains: ClassVar[str] = "Rounds peaks off; odd harmonics, more as it is driven"
    leading: ClassVar[tuple[str, ...]] = ("drive_db", "blend", "output_db")

    kind: Literal["soft-clip"] = "soft-clip"
    drive_db: Annotated[Value, number(low=0.0, high=48.0, step=0.1, unit="dB", label="Drive", moves=True)] = 12.0
    output_db: Annotated[Value, number(low=-48.0, high=12.0, step=0.1, unit="dB", label="Output", moves=True)] = -3.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", help="0 is clean, 1 all clipped", moves=True)] = (
        1.0
    )
    oversampling: Annotated[Literal[1, 2, 4, 8], choice(label="Oversampling", unit="×")] = 4

    def process(self, audio: Audio, clock: Clock) -> Audio:
        driven, gain = pushed(audio, mapped(self.drive_db, db_to_gain))
        wet = oversampled(
            driven,
            self.oversampling,
            lambda x: soft_clip(x, gain),
            looped=clock.looped,
            between=lambda x: soft_clip_between(x, gain),
        )
        # An odd curve too makes DC of a wave that is not symmetric: it goes, as any DC.
        wet = without_dc(wet, clock.rate_hz, looped=clock.looped, midway=clock.begins is not None)
        return blended(audio, wet, blend=self.blend, output_db=self.output_db)

    def sketch(self) -> Sketch:
        out = soft_clip(transfer_inputs(), float(db_to_gain(least(self.drive_db))))
        return transfer_sketch(out)

    def tail_seconds(self, clock: Clock) -> float:
        return settle_frames(dc_blocker(clock.rate_hz)) / clock.rate_hz

    def memory_seconds(self, clock: Clock) -> float:
        return DC_MEMORY_S
