"""What every treatment is."""

from __future__ import annotations

from typing import ClassVar

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.parameters import Model, switch


class Treatment(Model):
    """One stage of a chain. Subclasses declare a `kind`, parameters, and override `process`."""

    label: ClassVar[str]
    on: bool = switch(True, label="On")

    def process(self, audio: Audio, clock: Clock) -> Audio:
        """The treated audio, same shape, latency removed. Pure: same arguments, same samples."""
        raise NotImplementedError
