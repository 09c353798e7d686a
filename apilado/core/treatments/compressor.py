"""Treatment: a compressor."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least
from apilado.core.dsp.dynamics import FORGOTTEN, Detector, reduced, static_reduction, whole_reduction
from apilado.core.parameters import choice, number
from apilado.core.sketch import Sketch, level_inputs, level_sketch
from apilado.core.treatments.base import blended
from apilado.core.treatments.keyed import Keyed
from apilado.core.units import beats_to_seconds

RMS_MS = 10.0
NoteValue = Literal["1/4", "1/8", "1/8 triplet", "1/16", "1/16 triplet", "1/32", "1/64"]
BEATS: dict[str, float] = {
    "1/4": 1.0,
    "1/8": 1 / 2,
    "1/8 triplet": 1 / 3,
    "1/16": 1 / 4,
    "1/16 triplet": 1 / 6,
    "1/32": 1 / 8,
    "1/64": 1 / 16,
}
"""Note values in beats, a beat being a quarter."""


class Compressor(Keyed):
    """Feed-forward compressor, both channels turned down together."""

    label: ClassVar[str] = "Compressor"
    reduces: ClassVar[bool] = True
    explains: ClassVar[str] = "Turns down what is above its threshold, by its ratio; listens to any drum or layer"
    leading: ClassVar[tuple[str, ...]] = (
        "threshold_db",
        "ratio",
        "attack_ms",
        "release_ms",
        "release_note",
        "makeup_db",
    )

    kind: Literal["compressor"] = "compressor"
    threshold_db: Annotated[
        Value, number(low=-60.0, high=0.0, step=0.1, unit="dB", label="Threshold", moves=True)
    ] = -18.0
    ratio: Annotated[Value, number(low=1.0, high=20.0, step=0.1, scale="log", unit=":1", label="Ratio", moves=True)] = (
        3.0
    )
    knee_db: Annotated[float, number(low=0.0, high=24.0, step=0.1, unit="dB", label="Knee")] = 6.0
    detection: Annotated[
        Literal["peak", "rms"], choice(label="Detection", help="Every sample, or the mean of 10 ms")
    ] = "peak"
    attack_ms: Annotated[float, number(low=0.0, high=200.0, step=0.1, unit="ms", label="Attack")] = 10.0
    timing: Annotated[
        Literal["ms", "note"], choice(label="Release in", help="Milliseconds, or a note value at the tempo")
    ] = "ms"
    release_ms: Annotated[float, number(low=5.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Release")] = (
        120.0
    )
    release_note: Annotated[NoteValue, choice(label="Release")] = "1/16"
    makeup_db: Annotated[Value, number(low=-12.0, high=24.0, step=0.1, unit="dB", label="Make-up", moves=True)] = 0.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", moves=True)] = 1.0

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing in the timing chosen."""
        return ("release_note",) if self.timing == "ms" else ("release_ms",)

    def detector(self, tempo_bpm: float) -> Detector:
        """What makes its gain reduction, at a tempo."""
        release = self.release_ms
        if self.timing == "note":
            release = 1000.0 * beats_to_seconds(BEATS[self.release_note], tempo_bpm)
        rms = RMS_MS if self.detection == "rms" else 0.0
        return Detector(self.threshold_db, self.ratio, self.knee_db, self.attack_ms, release, rms_ms=rms)

    def turned_down(self, audio: Audio, reduction: NDArray[np.float32]) -> Audio:
        return blended(audio, reduced(audio, reduction), blend=self.blend, output_db=self.makeup_db, in_place=True)

    def reduction_of(self, key: Audio, clock: Clock) -> NDArray[np.float32]:
        given: dict[str, Any] = {"rate_hz": clock.rate_hz, "looped": clock.looped, "held_db": clock.held_db}
        return whole_reduction(key, self.detector(clock.tempo_bpm), **given)

    def sketch(self) -> Sketch:
        taken = static_reduction(level_inputs(), least(self.threshold_db), least(self.ratio), self.knee_db)
        return level_sketch(taken, made_up_db=least(self.makeup_db))

    def level_memory_ms(self, clock: Clock) -> float:
        detector = self.detector(clock.tempo_bpm)
        return FORGOTTEN * (detector.attack_ms + detector.release_ms + detector.rms_ms)

    def overdone(self) -> Self:
        return self.model_copy(
            update={"threshold_db": max(-60.0, least(self.threshold_db) - 18.0), "ratio": 20.0, "blend": 1.0}
        )
