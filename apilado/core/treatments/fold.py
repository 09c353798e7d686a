"""Treatment: folding back what goes beyond full scale."""

from __future__ import annotations

from functools import partial
from typing import Annotated, ClassVar, Literal

from apilado.core.dsp.curves import Value
from apilado.core.dsp.oversampling import Shaper
from apilado.core.dsp.shapers import ROUND_FOLD, SHARP_FOLD, bent, bent_between
from apilado.core.parameters import choice, number
from apilado.core.treatments.drive import Drive

KINDS = {"round": ROUND_FOLD, "sharp": SHARP_FOLD}


class Fold(Drive):
    """Turns a wave back where it reaches full scale, again and again: odd harmonics that wander as it is driven."""

    label: ClassVar[str] = "Fold"
    dc_goes: ClassVar[Literal["of all", "of what is added", ""]] = "of all"
    explains: ClassVar[str] = "Folds peaks back down; glassy odd harmonics that wander with the level"
    leading: ClassVar[tuple[str, ...]] = ("drive_db", "turn", "blend", "output_db")

    kind: Literal["fold"] = "fold"
    drive_db: Annotated[Value, number(low=0.0, high=36.0, step=0.1, unit="dB", label="Drive", moves=True)] = 9.0
    turn: Annotated[
        Literal["round", "sharp"],
        choice(label="Turn", names={"round": "round (a sine)", "sharp": "sharp (a triangle)"}),
    ] = "round"

    def shaper(self, gain: float) -> tuple[Shaper, Shaper | None]:
        kind = KINDS[self.turn]
        return partial(bent, gain=gain, kind=kind), partial(bent_between, gain=gain, kind=kind)
