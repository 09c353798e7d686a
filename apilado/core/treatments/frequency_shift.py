"""Treatment: all frequencies moved by the same number of Hz."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio, as_stereo
from apilado.core.dsp.curves import Value
from apilado.core.dsp.single_sideband import frequencies_moved, hilbert_taps
from apilado.core.parameters import choice
from apilado.core.treatments.carried import Carried, turning_number


class FrequencyShift(Carried):
    """One side tone of ring modulation without the other: harmonics are no longer multiples of one frequency."""

    label: ClassVar[str] = "Frequency shift"
    explains: ClassVar[str] = "Every harmonic moved by the same Hz: metallic, or a slow beat against the dry sound"
    widens: ClassVar[bool] = True
    leading: ClassVar[tuple[str, ...]] = ("hertz", "direction", "follow", "blend", "output_db")

    kind: Literal["frequency-shift"] = "frequency-shift"
    hertz: Annotated[Value, turning_number("Shift")] = 20.0
    direction: Annotated[
        Literal["up", "down", "apart"], choice(label="Direction", names={"apart": "left up, right down"})
    ] = "up"

    def carried(self, audio: Audio, turns: NDArray[np.float64], clock: Clock) -> Audio:
        if self.direction == "apart":
            audio = as_stereo(audio)
            ways = ((audio[:1], turns), (audio[1:], -turns))
            moved = [frequencies_moved(each, way, clock.rate_hz, looped=clock.looped) for each, way in ways]
            return np.concatenate(moved)
        turns = turns if self.direction == "up" else -turns
        return frequencies_moved(audio, turns, clock.rate_hz, looped=clock.looped)

    def tail_seconds(self, clock: Clock) -> float:
        return len(hilbert_taps(clock.rate_hz)) / 2.0 / clock.rate_hz

    def memory_seconds(self, clock: Clock) -> float:
        return self.tail_seconds(clock)

    def ahead_seconds(self, clock: Clock) -> float:
        return self.tail_seconds(clock)

    def in_words(self) -> str:
        ways = {"up": "up", "down": "down", "apart": "left up, right down"}
        return f"{super().in_words()} {ways[self.direction]}"
