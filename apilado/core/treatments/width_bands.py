"""Treatment: how wide each band is."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.banded import LEAST_BANDS, MOST_BANDS, Band, Banded, begun
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.crossovers import split
from apilado.core.dsp.curves import Value, least, per_frame
from apilado.core.dsp.filters import HEARD_OF_A_TAIL
from apilado.core.parameters import number, parts
from apilado.core.sketch import Sketch, sketch_hertz
from apilado.core.treatments.base import Treatment


class WideBand(Band):
    """A band, and how wide it is."""

    leading: ClassVar[tuple[str, ...]] = ("width",)

    width: Annotated[
        Value, number(low=0.0, high=2.0, label="Width", help="0 is mono, 1 as it is, 2 twice as wide", moves=True)
    ] = 1.0

    def in_words(self) -> str:
        return f"{100.0 * least(self.width):.0f} %"


class WidthBands(Banded, Treatment):
    """Two to four bands, each wider or narrower: only what differs between the channels is touched, so that their sum
    stays what it was."""

    label: ClassVar[str] = "Width of bands"
    family: ClassVar[str] = "Stereo"
    explains: ClassVar[str] = "Two to four bands, each narrower or wider; what is heard in mono stays as it is"

    widens: ClassVar[bool] = True

    kind: Literal["width-bands"] = "width-bands"
    bands: tuple[WideBand, ...] = parts(
        "band", least=LEAST_BANDS, most=MOST_BANDS, begin=lambda: begun(WideBand, 150.0, 2000.0)
    )

    def in_bands(self) -> tuple[WideBand, ...]:
        return self.bands

    def in_words(self) -> str:
        return ", ".join(f"{100.0 * least(band.width):.0f}" for band in self.bands) + " %"

    def sketch(self) -> Sketch:
        begins = np.array([band.from_hz for band in self.bands[1:]])
        widths = np.array([least(band.width) for band in self.bands])
        return Sketch("width", widths[np.searchsorted(begins, sketch_hertz(), side="right")] / 2.0)

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        if audio.shape[0] == 1 or all(isinstance(b.width, float) and b.width == 1.0 for b in self.bands):
            return audio
        half = np.float32(0.5)
        mid, side = half * (audio[0] + audio[1]), half * (audio[0] - audio[1])
        wide = np.zeros((1, side.shape[0]), np.float32)
        for number_, band in enumerate(self.bands):
            piece = split(side.reshape(1, -1), self.cut(number_, clock.rate_hz), looped=clock.looped)
            wide += piece * np.asarray(per_frame(band.width), np.float32)
        return np.stack([mid + wide[0], mid - wide[0]])

    def tail_seconds(self, clock: Clock) -> float:
        return self.rings_seconds(clock.rate_hz)

    def memory_seconds(self, clock: Clock) -> float:
        linear = self.phase == "linear-phase"
        return (1.0 if linear else HEARD_OF_A_TAIL) * self.rings_seconds(clock.rate_hz)

    def ahead_seconds(self, clock: Clock) -> float:
        return self.rings_seconds(clock.rate_hz) if self.phase == "linear-phase" else 0.0
