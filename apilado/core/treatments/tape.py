"""Treatment: the hysteresis of tape."""

from __future__ import annotations

from functools import partial
from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least, mapped, pushed
from apilado.core.dsp.hysteresis import magnetised
from apilado.core.dsp.lead_in import wrapped_tail
from apilado.core.dsp.oversampling import Running, oversampled
from apilado.core.parameters import number
from apilado.core.sketch import Sketch, transfer_inputs, transfer_sketch
from apilado.core.treatments.drive import Curved, Drive
from apilado.core.units import db_to_gain

ROUND_S, LEAD_S, EDGE_FRAMES = 1.0, 0.2, 256
"""A loop begins as so much of the round before has left it. What was longer ago than the lead is forgotten: a field
that swings wipes out where it began, by 13 dB in a tenth of a second."""
SWING = 400


class Tape(Drive):
    """Follows the field late and bends it at its ends: odd harmonics that grow with the level, rounded attacks."""

    label: ClassVar[str] = "Tape"
    dc_goes: ClassVar[Literal["of all", "of what is added", ""]] = "of all"
    explains: ClassVar[str] = "Magnetises with a lag; thick odd harmonics, rounded attacks"
    leading: ClassVar[tuple[str, ...]] = ("drive_db", "width", "blend", "output_db")

    kind: Literal["tape"] = "tape"
    drive_db: Annotated[Value, number(low=0.0, high=36.0, step=0.1, unit="dB", label="Drive", moves=True)] = 6.0
    output_db: Annotated[Value, number(low=-48.0, high=12.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    width: Annotated[
        float, number(low=0.02, high=0.5, step=0.01, label="Lag", help="Half the width of its loop; 1 is full scale")
    ] = 0.1

    def transfer(self, inputs: Curved) -> Curved:
        """What comes out as the field rises, after it had gone down as far."""
        gain = float(db_to_gain(least(self.drive_db)))
        ends = np.concatenate([np.linspace(0.0, 1.0, SWING), np.linspace(1.0, -1.0, 2 * SWING)])
        way = (gain * np.concatenate([ends, inputs])).astype(np.float32)
        out, _ = magnetised(way, np.zeros(2), 0, width=self.width)
        return np.asarray(out[-inputs.shape[0] :] * db_to_gain(least(self.output_db)), np.float32)

    def driven(self, audio: Audio, clock: Clock) -> Audio:
        audio, gain = pushed(audio, mapped(self.drive_db, db_to_gain))
        frames, lead = audio.shape[1], 0
        if clock.looped:
            lead = min(frames, round(ROUND_S * clock.rate_hz))
            around = np.arange(EDGE_FRAMES) % frames
            audio = np.concatenate([wrapped_tail(audio, lead), audio, audio[:, around]], axis=1)
        field = audio * np.float32(gain)

        sides = [self._followed(side[None]) for side in field]
        return np.concatenate(sides)[:, lead : lead + frames]

    def _followed(self, field: Audio) -> Audio:
        """One side of a field, from rest."""
        rest, times = np.zeros(2), self.oversampling
        at = Running(partial(magnetised, width=self.width), rest, times)
        between = Running(partial(magnetised, width=self.width, averaged=True), rest, times, between=True)
        return oversampled(field, self.oversampling, at, looped=False, between=between)

    def sketch(self) -> Sketch:
        return transfer_sketch(self.transfer(transfer_inputs()))

    def memory_seconds(self, clock: Clock) -> float:
        return super().memory_seconds(clock) + LEAD_S
