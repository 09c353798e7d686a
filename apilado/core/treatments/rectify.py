"""Treatment: rectifying."""

from __future__ import annotations

from functools import partial
from typing import Annotated, ClassVar, Literal

from apilado.core.dsp.curves import Value
from apilado.core.dsp.oversampling import Shaper
from apilado.core.dsp.shapers import FULL_WAVE, HALF_WAVE, bent, bent_between
from apilado.core.parameters import choice, number
from apilado.core.treatments.drive import Drive

KINDS = {"full": FULL_WAVE, "half": HALF_WAVE}


class Rectify(Drive):
    """Turns the lower half of a wave up, or leaves it out: even harmonics, and with both halves up an octave above."""

    label: ClassVar[str] = "Rectify"
    dc_goes: ClassVar[Literal["of all", "of what is added", ""]] = "of all"
    explains: ClassVar[str] = "Turns half of the wave over, or leaves it out; an octave up, even harmonics"
    leading: ClassVar[tuple[str, ...]] = ("wave", "blend", "output_db", "drive_db")

    kind: Literal["rectify"] = "rectify"
    drive_db: Annotated[Value, number(low=0.0, high=24.0, step=0.1, unit="dB", label="Drive", moves=True)] = 0.0
    wave: Annotated[
        Literal["full", "half"],
        choice(label="Wave", names={"full": "full: an octave up", "half": "half: even harmonics"}),
    ] = "full"

    def shaper(self, gain: float) -> tuple[Shaper, Shaper | None]:
        kind = KINDS[self.wave]
        return partial(bent, gain=gain, kind=kind), partial(bent_between, gain=gain, kind=kind)
