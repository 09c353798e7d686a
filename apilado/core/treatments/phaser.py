"""Treatment: notches that sweep."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value, greatest, least, rows
from apilado.core.dsp.phasing import all_pass_of, phased, row_seconds
from apilado.core.parameters import choice, number
from apilado.core.sketch import Sketch, response_sketch, sketch_hertz
from apilado.core.treatments.swings import sine_swings
from apilado.core.treatments.widening import Swinging
from apilado.core.units import short_hz

LOWEST_CORNER_HZ = 20.0


class Phaser(Swinging):
    """A row of all-pass filters beside the sound: where both are opposed there is a notch, half as many as filters."""

    label: ClassVar[str] = "Phaser"
    explains: ClassVar[str] = "Notches, half as many as it has filters, that sweep up and down"
    leading: ClassVar[tuple[str, ...]] = ("stages", "centre_hz", "depth_oct", "speed_hz", "feedback", "blend")

    kind: Literal["phaser"] = "phaser"
    stages: Annotated[Literal[2, 4, 6, 8, 10, 12], choice(label="Filters")] = 6
    centre_hz: Annotated[
        Value, number(low=40.0, high=8000.0, step=1.0, scale="log", unit="Hz", label="Centre", moves=True)
    ] = 700.0
    depth_oct: Annotated[
        Value, number(low=0.0, high=4.0, step=0.01, unit="oct", label="Depth", help="Up and down", moves=True)
    ] = 1.5

    def wet(self, audio: Audio, clock: Clock) -> Audio:
        swings = sine_swings(self.speed_hz, clock, 0.0, 0.5 * self.spread)
        left, right = (self._corner(swing, clock) for swing in swings)
        ahead = round(self.wet_seconds(clock) * clock.rate_hz)
        return phased(audio, (left, right), self.feedback, stages=self.stages, looped=clock.looped, ahead=ahead)

    def _corner(self, swing: Curve, clock: Clock) -> Curve:
        at, values = rows((swing, self.centre_hz, self.depth_oct))
        hertz = values[:, 1] * 2.0 ** (values[:, 2] * values[:, 0])
        return Curve(at, all_pass_of(hertz.clip(LOWEST_CORNER_HZ, None), clock.rate_hz))

    def wet_seconds(self, clock: Clock) -> float:
        lowest = max(LOWEST_CORNER_HZ, least(self.centre_hz) * 2.0 ** -greatest(self.depth_oct))
        return row_seconds(lowest, self.stages, max(abs(greatest(self.feedback)), abs(least(self.feedback))))

    def sketch(self) -> Sketch:
        turned = -2.0 * np.arctan(sketch_hertz() / least(self.centre_hz))  # of each filter
        row = np.exp(1j * self.stages * turned)
        wet, share = row / (1.0 - least(self.feedback) * row), least(self.blend)
        return response_sketch(20.0 * np.log10(np.maximum(np.abs(1.0 - share + share * wet), 1e-3)))

    def in_words(self) -> str:
        lies = f"{self.stages} filters about {short_hz(least(self.centre_hz))}, ±{least(self.depth_oct):g} oct"
        return f"{lies}, {self.speed_hz:g} Hz"
