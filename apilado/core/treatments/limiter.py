"""Treatment: a look-ahead peak limiter."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, greatest, least, mapped, per_frame
from apilado.core.dsp.dynamics import FORGOTTEN, limiter_reduction, reduced
from apilado.core.parameters import number
from apilado.core.sketch import Sketch, level_inputs, level_sketch
from apilado.core.treatments.keyed import Keyed
from apilado.core.units import db_to_gain


class PeakLimiter(Keyed):
    """Turns up by `gain_db`, then keeps every sample of what it listens to below the ceiling. Light reduction evens a
    sub out."""

    label: ClassVar[str] = "Limiter"
    reduces: ClassVar[bool] = True
    explains: ClassVar[str] = (
        "Lets nothing over its ceiling; light reduction evens a sub out; listens to any drum or layer"
    )
    leading: ClassVar[tuple[str, ...]] = ("ceiling_db", "gain_db", "release_ms")

    kind: Literal["limiter"] = "limiter"
    gain_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Gain", moves=True)] = 0.0
    ceiling_db: Annotated[Value, number(low=-48.0, high=0.0, step=0.1, unit="dB", label="Ceiling", moves=True)] = -6.0
    release_ms: Annotated[float, number(low=5.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Release")] = (
        120.0
    )

    def _turned_up(self, audio: Audio) -> Audio:
        return audio * np.asarray(per_frame(mapped(self.gain_db, db_to_gain)), np.float32)

    def turned_down(self, audio: Audio, reduction: NDArray[np.float32]) -> Audio:
        return reduced(self._turned_up(audio), reduction)

    def reduction_of(self, key: Audio, clock: Clock) -> NDArray[np.float32]:
        given: dict[str, Any] = {"ceiling_db": self.ceiling_db, "release_ms": self.release_ms, "held_db": clock.held_db}
        return limiter_reduction(self._turned_up(key), **given, rate_hz=clock.rate_hz, looped=clock.looped)

    def sketch(self) -> Sketch:
        over = level_inputs() + least(self.gain_db) - least(self.ceiling_db)
        return level_sketch(np.maximum(over, 0.0), made_up_db=least(self.gain_db))

    def level_memory_ms(self, clock: Clock) -> float:
        return FORGOTTEN * self.release_ms

    def overdone(self) -> Self:
        return self.model_copy(update={"gain_db": min(24.0, greatest(self.gain_db) + 12.0)})
