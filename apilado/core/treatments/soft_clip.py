"""Treatment: soft clipping."""

from __future__ import annotations

from typing import ClassVar, Literal

from apilado.core.dsp.oversampling import Shaper
from apilado.core.dsp.shapers import soft_clip, soft_clip_between
from apilado.core.treatments.drive import Drive


class SoftClip(Drive):
    """Smooth saturation: `drive_db` into the curve, `output_db` after it."""

    label: ClassVar[str] = "Soft clip"
    dc_goes: ClassVar[Literal["of all", "of what is added", ""]] = "of all"
    explains: ClassVar[str] = "Rounds peaks off; odd harmonics, more as it is driven"

    kind: Literal["soft-clip"] = "soft-clip"

    def shaper(self, gain: float) -> tuple[Shaper, Shaper | None]:
        return lambda x: soft_clip(x, gain), lambda x: soft_clip_between(x, gain)
