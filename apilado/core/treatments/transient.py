"""Treatment: attack and sustain."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal, Self

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, greatest, per_frame
from apilado.core.dsp.dynamics import FORGOTTEN, SETTLED_CONSTANTS
from apilado.core.dsp.lead_in import wrapped_tail
from apilado.core.dsp.transients import SLOW_FALL_MS, SLOW_RISE_MS, transient_gain_db, turned
from apilado.core.parameters import number
from apilado.core.treatments.base import Treatment

MEMORY_MS = SLOW_RISE_MS + SLOW_FALL_MS


class Transient(Treatment):
    """Turns beginnings and what follows them up or down, whatever their level."""

    label: ClassVar[str] = "Transient"
    explains: ClassVar[str] = "Attacks and what follows them up or down, whatever the level"

    kind: Literal["transient"] = "transient"
    attack_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Attack", moves=True)] = 6.0
    sustain_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Sustain", moves=True)] = 0.0

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        attack, sustain = per_frame(self.attack_db), per_frame(self.sustain_db)
        if not (np.any(attack) or np.any(sustain)):
            return audio
        ahead = clock.samples_in_ms(SETTLED_CONSTANTS * MEMORY_MS) if clock.looped else 0
        whole = np.concatenate([wrapped_tail(audio, ahead), audio], axis=1) if ahead else audio

        def led_in(value: float | np.ndarray) -> float | np.ndarray:
            # What is turned in the round before is thrown away: any value does.
            return value if isinstance(value, float) else np.pad(value, (ahead, 0))

        gain = transient_gain_db(whole, attack_db=led_in(attack), sustain_db=led_in(sustain), rate_hz=clock.rate_hz)
        return turned(audio, gain[ahead:])

    def memory_seconds(self, clock: Clock) -> float:
        return FORGOTTEN * MEMORY_MS / 1000.0

    def fading_seconds(self, clock: Clock) -> float:
        return self.memory_seconds(clock)

    def overdone(self) -> Self:
        values = {"attack_db": greatest(self.attack_db), "sustain_db": greatest(self.sustain_db)}
        most = {name: math.copysign(24.0, value) if value else 0.0 for name, value in values.items()}
        return self.model_copy(update=most)
