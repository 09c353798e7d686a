"""What all dynamics share that can listen to another sound: which one, and how much of it."""

from __future__ import annotations

from typing import Annotated, ClassVar

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.filters import filtered, heard_frames
from apilado.core.parameters import reference
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.drive import HIGHEST_HZ, LOWEST_HZ, high_pass_number, low_pass_number, passed_between


class Keyed(Treatment):
    """Dynamics that follow their own input, a drum's hits or a layer, filtered. Subclasses override `turned_down` and
    `reduction_of`."""

    by_reduction: ClassVar[bool] = True

    key: Annotated[str, reference(among="sounds", label="Listens to")] = ""
    key_high_pass_hz: Annotated[
        float, high_pass_number("Listens from", "A high-pass of 12 dB per octave for what it listens to; off at 20 Hz")
    ] = LOWEST_HZ
    key_low_pass_hz: Annotated[
        float, low_pass_number("Listens up to", "A low-pass of 12 dB per octave for what it listens to; off at 20 kHz")
    ] = HIGHEST_HZ

    def follows(self) -> str | None:
        return self.key or None

    def reduction_of(self, key: Audio, clock: Clock) -> NDArray[np.float32]:
        """The gain reduction in dB that a key asks for, shape (frames,)."""
        raise NotImplementedError

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        return self.turned_down(audio, self.reduction(audio, clock, key))

    def reduction(self, audio: Audio, clock: Clock, key: Audio | None = None) -> NDArray[np.float32]:
        heard = filtered(audio if key is None else key, self._filter(clock), looped=clock.looped)
        return self.reduction_of(heard, clock)

    def _filter(self, clock: Clock) -> NDArray[np.float64]:
        return passed_between(self.key_high_pass_hz, self.key_low_pass_hz, clock.rate_hz)

    def memory_seconds(self, clock: Clock) -> float:
        return heard_frames(self._filter(clock)) / clock.rate_hz

    def fading_seconds(self, clock: Clock) -> float:
        return Keyed.memory_seconds(self, clock)
