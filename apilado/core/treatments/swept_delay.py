"""What chorus and flanger share: short lines whose length swings."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value, greatest, least, rows
from apilado.core.dsp.echoes import FEWEST_FRAMES, forgotten_seconds, swinging
from apilado.core.sketch import Sketch, swing_sketch
from apilado.core.treatments.swings import sine_swings
from apilado.core.treatments.widening import Swinging


class SweptDelay(Swinging):
    """Copies of a sound by lines that grow longer and shorter. Subclasses declare `depth_ms` and `delay_ms`."""

    leading: ClassVar[tuple[str, ...]] = ("speed_hz", "depth_ms", "delay_ms", "feedback", "spread", "blend")

    depth_ms: Value
    delay_ms: Value

    def copies(self) -> int:
        """How many lines there are on each side."""
        return 1

    def wet(self, audio: Audio, clock: Clock) -> Audio:
        count = self.copies()
        ahead = [(voice + 0.5 * side * self.spread) / count for side in range(2) for voice in range(count)]
        lines = [self._line(swing, clock) for swing in sine_swings(self.speed_hz, clock, *ahead)]
        rings_s = self.wet_seconds(clock)
        return swinging(audio, lines, self.feedback, rate_hz=clock.rate_hz, looped=clock.looped, rings_s=rings_s)

    def _line(self, swing: Curve, clock: Clock) -> Curve:
        """The length of a line in frames: never shorter than is read at once, whatever moves it."""
        at, values = rows((swing, self.depth_ms, self.delay_ms))
        milliseconds = values[:, 2] + values[:, 1] * values[:, 0]
        return Curve(at, np.maximum(milliseconds * (clock.rate_hz / 1000.0), FEWEST_FRAMES))

    def wet_seconds(self, clock: Clock) -> float:
        longest = (greatest(self.delay_ms) + greatest(self.depth_ms)) / 1000.0 + 1e-3
        return forgotten_seconds(longest, max(abs(greatest(self.feedback)), abs(least(self.feedback))))

    def sketch(self) -> Sketch:
        return swing_sketch(least(self.depth_ms) / max(least(self.delay_ms), least(self.depth_ms), 1e-9))

    def in_words(self) -> str:
        said = f"{self.speed_hz:g} Hz, ±{least(self.depth_ms):g} ms about {least(self.delay_ms):g} ms"
        back = least(self.feedback)
        return said + (f", feedback {back:g}".replace("-", "−") if back else "")
