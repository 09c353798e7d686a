"""Treatment: another place in the image, another time, another level."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio, as_stereo
from apilado.core.dsp.curves import Value, greatest, mapped, per_frame
from apilado.core.dsp.stereo import moved, placed
from apilado.core.parameters import choice, number
from apilado.core.treatments.base import Treatment
from apilado.core.units import db_to_gain

LONGEST_MS = 50.0


class Offset(Treatment):
    """Pan, level, polarity and delay as a step of a path: each may move."""

    label: ClassVar[str] = "Offset"
    family: ClassVar[str] = "Stereo"
    explains: ClassVar[str] = "Pan, level, polarity and delay at this place of the path; each may move"
    leading: ClassVar[tuple[str, ...]] = ("level_db", "pan", "delay_ms", "polarity")

    kind: Literal["offset"] = "offset"
    level_db: Annotated[Value, number(low=-60.0, high=24.0, step=0.1, unit="dB", label="Level", moves=True)] = 0.0
    pan: Annotated[
        Value, number(low=-1.0, high=1.0, label="Pan", help="The far channel is turned down", moves=True)
    ] = 0.0
    delay_ms: Annotated[Value, number(low=0.0, high=LONGEST_MS, step=0.01, unit="ms", label="Delay", moves=True)] = 0.0
    polarity: Annotated[Literal["normal", "inverted"], choice(label="Polarity")] = "normal"

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        gain = np.asarray(per_frame(mapped(self.level_db, db_to_gain)), np.float32)
        if self.polarity == "inverted":
            gain = -gain
        if isinstance(self.pan, float) and self.pan == 0.0:
            out = audio * gain  # a sound in one channel stays in one
        else:
            out = placed(as_stereo(audio), width=1.0, mono=False, pan=self.pan, gain=gain)
        frames = mapped(self.delay_ms, lambda ms: ms * (clock.rate_hz / 1000.0))
        return moved(out, frames, looped=clock.looped)

    def tail_seconds(self, clock: Clock) -> float:
        return greatest(self.delay_ms) / 1000.0

    def memory_seconds(self, clock: Clock) -> float:
        return LONGEST_MS / 1000.0
