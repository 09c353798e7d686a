"""Treatment: hard clipping."""

from __future__ import annotations

from functools import partial
from typing import ClassVar, Literal

from apilado.core.dsp.oversampling import Shaper
from apilado.core.dsp.shapers import CLIP, bent, bent_between
from apilado.core.treatments.drive import Drive


class HardClip(Drive):
    """Cuts off what is over full scale: nothing happens below it, and above it all odd harmonics."""

    label: ClassVar[str] = "Hard clip"
    explains: ClassVar[str] = "Cuts peaks off flat; clean below full scale, hard and bright above it"

    kind: Literal["hard-clip"] = "hard-clip"

    def shaper(self, gain: float) -> tuple[Shaper, Shaper | None]:
        return partial(bent, gain=gain, kind=CLIP), partial(bent_between, gain=gain, kind=CLIP)
