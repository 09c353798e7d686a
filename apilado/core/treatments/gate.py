"""Treatment: a gate."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, greatest, least
from apilado.core.dsp.dynamics import FORGOTTEN, reduced
from apilado.core.dsp.gates import LEVEL_FALL_MS, Gate, gate_reduction
from apilado.core.parameters import number
from apilado.core.sketch import Sketch, level_inputs, level_sketch
from apilado.core.treatments.keyed import Keyed


class GateStep(Keyed):
    """Turns down what is below its threshold: tails end, gaps between notes are silent."""

    label: ClassVar[str] = "Gate"
    reduces: ClassVar[bool] = True
    explains: ClassVar[str] = (
        "Turns down what is below its threshold; shorter tails, silent gaps; listens to any drum or layer"
    )
    leading: ClassVar[tuple[str, ...]] = ("threshold_db", "hold_ms", "release_ms", "range_db")

    kind: Literal["gate"] = "gate"
    threshold_db: Annotated[
        Value, number(low=-80.0, high=0.0, step=0.1, unit="dB", label="Threshold", moves=True)
    ] = -36.0
    range_db: Annotated[
        Value,
        number(low=0.0, high=80.0, step=0.1, unit="dB", label="Range", help="By how much it turns down", moves=True),
    ] = 40.0
    attack_ms: Annotated[float, number(low=0.0, high=100.0, step=0.1, unit="ms", label="Attack")] = 1.0
    hold_ms: Annotated[float, number(low=0.0, high=500.0, step=1.0, unit="ms", label="Hold")] = 30.0
    release_ms: Annotated[float, number(low=1.0, high=1000.0, step=1.0, scale="log", unit="ms", label="Release")] = 60.0
    back_db: Annotated[
        float, number(low=0.0, high=12.0, step=0.1, unit="dB", label="Closes below", help="So far under the threshold")
    ] = 3.0

    def _gate(self) -> Gate:
        return Gate(self.threshold_db, self.range_db, self.attack_ms, self.hold_ms, self.release_ms, self.back_db)

    def turned_down(self, audio: Audio, reduction: NDArray[np.float32]) -> Audio:
        return reduced(audio, reduction)

    def reduction_of(self, key: Audio, clock: Clock) -> NDArray[np.float32]:
        return gate_reduction(key, self._gate(), rate_hz=clock.rate_hz, looped=clock.looped)

    def sketch(self) -> Sketch:
        shut = level_inputs() < least(self.threshold_db)
        return level_sketch(np.where(shut, least(self.range_db), 0.0))

    def memory_seconds(self, clock: Clock) -> float:
        # Whether it is open, and for how long it holds, cannot be told from what it takes: all of it is looked back on.
        own_ms = FORGOTTEN * (self.attack_ms + self.release_ms + LEVEL_FALL_MS) + self.hold_ms
        return super().memory_seconds(clock) + own_ms / 1000.0

    def overdone(self) -> Self:
        return self.model_copy(update={"threshold_db": min(0.0, greatest(self.threshold_db) + 12.0), "range_db": 80.0})
