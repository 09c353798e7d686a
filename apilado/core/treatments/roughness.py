"""Treatment: a very short delay that trembles."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, per_frame
from apilado.core.dsp.stereo import read_at
from apilado.core.parameters import choice, number
from apilado.core.sketch import Sketch
from apilado.core.treatments.drive import Drive
from apilado.core.treatments.swings import turns_in

SEED = 51
DEEPEST_MS = 4.0


class Roughness(Drive):
    """Moves the sound a little forward and back in time, by noise or by a sine: side tones about every harmonic."""

    label: ClassVar[str] = "Roughness"
    dc_goes: ClassVar[Literal["of all", "of what is added", ""]] = ""
    has_curve: ClassVar[bool] = False
    explains: ClassVar[str] = "Trembles in time, by noise or a sine; breath, rasp and growl about each harmonic"
    leading: ClassVar[tuple[str, ...]] = ("depth_ms", "speed_hz", "wave", "blend", "output_db")

    kind: Literal["roughness"] = "roughness"
    output_db: Annotated[Value, number(low=-48.0, high=12.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    depth_ms: Annotated[
        Value,
        number(low=0.0, high=DEEPEST_MS, step=0.01, unit="ms", label="Depth", help="Forward and back", moves=True),
    ] = 0.15
    speed_hz: Annotated[float, number(low=1.0, high=4000.0, step=1.0, scale="log", unit="Hz", label="Speed")] = 90.0
    wave: Annotated[Literal["noise", "sine"], choice(label="Moved by")] = "noise"

    def unused(self) -> tuple[str, ...]:
        """There is no curve that a sound is driven into."""
        return ("drive_db", "oversampling")

    def driven(self, audio: Audio, clock: Clock) -> Audio:
        frames = clock.around() if clock.begins is not None else np.arange(audio.shape[1])
        depth = np.asarray(per_frame(self.depth_ms)) * (clock.rate_hz / 1000.0)
        places = np.arange(audio.shape[1]) - depth * self._course(frames, clock)
        return read_at(audio, places, looped=clock.looped)

    def _course(self, frames: NDArray[np.int64], clock: Clock) -> NDArray[np.float64]:
        """Where the delay is, -1 to 1, at frames of the loop: it comes round with it."""
        turns = turns_in(self.speed_hz, clock)
        place = (frames % clock.round_frames) * (turns / clock.round_frames)
        if self.wave == "sine":
            return np.asarray(np.sin(2.0 * np.pi * place))
        values = np.random.default_rng(SEED).uniform(-1.0, 1.0, turns)
        whole = place.astype(np.int64)
        share = place - whole
        share = share * share * (3.0 - 2.0 * share)
        return np.asarray(values[whole % turns] * (1.0 - share) + values[(whole + 1) % turns] * share)

    def sketch(self) -> Sketch | None:
        return None

    def memory_seconds(self, clock: Clock) -> float:
        return super().memory_seconds(clock) + DEEPEST_MS / 1000.0
