"""Treatment: a look-ahead peak limiter."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, greatest, least, mapped, per_frame
from apilado.core.dsp.dynamics import FORGOTTEN, limited, limiter_reduction
from apilado.core.parameters import number
from apilado.core.sketch import Sketch, level_inputs, level_sketch
from apilado.core.treatments.base import Treatment
from apilado.core.units import db_to_gain


class PeakLimiter(Treatment):
    """Turns up by `gain_db`, then keeps every sample below the ceiling; light reduction evens a sub out."""

    label: ClassVar[str] = "Limiter"
    reduces: ClassVar[bool] = True
    explains: ClassVar[str] = "Lets nothing over its ceiling; light reduction evens a sub out"
    leading: ClassVar[tuple[str, ...]] = ("ceiling_db", "gain_db", "release_ms")

    kind: Literal["limiter"] = "limiter"
    gain_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Gain", moves=True)] = 0.0
    ceiling_db: Annotated[Value, number(low=-48.0, high=0.0, step=0.1, unit="dB", label="Ceiling", moves=True)] = -6.0
    release_ms: Annotated[float, number(low=5.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Release")] = (
        120.0
    )

    def _turned_up(self, audio: Audio) -> Audio:
        return audio * np.asarray(per_frame(mapped(self.gain_db, db_to_gain)), np.float32)

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        given: dict[str, Any] = {"ceiling_db": self.ceiling_db, "release_ms": self.release_ms, "held_db": clock.held_db}
        return limited(self._turned_up(audio), **given, rate_hz=clock.rate_hz, looped=clock.looped)

    def reduction(self, audio: Audio, clock: Clock, key: Audio | None = None) -> NDArray[np.float32] | None:
        given: dict[str, Any] = {"ceiling_db": self.ceiling_db, "release_ms": self.release_ms, "held_db": clock.held_db}
        return limiter_reduction(self._turned_up(audio), **given, rate_hz=clock.rate_hz, looped=clock.looped)

    def sketch(self) -> Sketch:
        over = level_inputs() + least(self.gain_db) - least(self.ceiling_db)
        return level_sketch(np.maximum(over, 0.0), made_up_db=least(self.gain_db))

    def level_memory_ms(self, clock: Clock) -> float:
        return FORGOTTEN * self.release_ms

    def overdone(self) -> Self:
        return self.model_copy(update={"gain_db": min(24.0, greatest(self.gain_db) + 12.0)})
