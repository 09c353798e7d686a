"""What every treatment is."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.parameters import Model, switch


def blended(dry: Audio, wet: Audio, *, blend: float, wet_gain: float) -> Audio:
    """(1 - blend) of the dry sound and `blend` of the wet one, which is first turned up by its gain."""
    if blend == 1.0:
        return wet * np.float32(wet_gain)
    return dry * np.float32(1.0 - blend) + wet * np.float32(blend * wet_gain)


class Treatment(Model):
    """One stage of a chain. Subclasses declare a `kind`, parameters, and override `process`."""

    label: ClassVar[str]
    on: bool = switch(True, label="On")

    def process(self, audio: Audio, clock: Clock) -> Audio:
        """The treated audio, same shape, latency removed. Pure: same arguments, same samples."""
        raise NotImplementedError
