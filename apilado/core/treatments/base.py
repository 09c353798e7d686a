"""What every treatment is."""

from __future__ import annotations

from typing import ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.parameters import switch
from apilado.core.parts import Part


def blended(dry: Audio, wet: Audio, *, blend: float, wet_gain: float) -> Audio:
    """(1 - blend) of the dry sound and `blend` of the wet one, which is first turned up by its gain."""
    if blend == 1.0:
        return wet * np.float32(wet_gain)
    return dry * np.float32(1.0 - blend) + wet * np.float32(blend * wet_gain)


class Treatment(Part):
    """One stage of a chain. Subclasses declare a `kind`, parameters, and override `process`."""

    label: ClassVar[str]
    on: bool = switch(True, label="On")

    def process(self, audio: Audio, clock: Clock) -> Audio:
        """The treated audio, same shape, latency removed. Pure: same arguments, same samples."""
        raise NotImplementedError

    def reduction(self, audio: Audio, clock: Clock) -> NDArray[np.float32] | None:
        """The gain reduction in dB that it applies to this audio, shape (frames,); None if it has none."""
        return None

    def tail_seconds(self, clock: Clock) -> float:
        """How long it may sound on after its input has ended."""
        return 0.0

    def overdone(self) -> Self | None:
        """The same, exaggerated: to hear its movement; None if it has none."""
        return None
