"""Treatment: fewer bits, a lower rate."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least, mapped, per_frame, pushed
from apilado.core.dsp.filters import HEARD_OF_A_TAIL, Sections, butterworth_qs, filtered, in_cascade, low_pass
from apilado.core.dsp.filters import settle_frames as settles
from apilado.core.dsp.shapers import quantised
from apilado.core.parameters import number, switch
from apilado.core.sketch import Sketch, transfer_inputs, transfer_sketch
from apilado.core.treatments.drive import Curved, Drive
from apilado.core.units import db_to_gain

WHOLE_RATE_HZ = 48000.0
"""At this rate, the end of its range, every sample is read."""
BELOW_HALF = 0.9
"""The filter closes at this share of half the rate."""
ORDER = 8


class Bits(Drive):
    """Rounds to so many bits, and reads the wave only so often and holds it: grain, and tones that mirror its own."""

    label: ClassVar[str] = "Bits"
    explains: ClassVar[str] = "Rounds to few bits and holds samples; grain, and mirrored tones without the filter"
    leading: ClassVar[tuple[str, ...]] = ("bits", "reading_hz", "mirrors", "blend", "output_db", "drive_db")

    kind: Literal["bits"] = "bits"
    drive_db: Annotated[Value, number(low=0.0, high=36.0, step=0.1, unit="dB", label="Drive", moves=True)] = 0.0
    output_db: Annotated[Value, number(low=-48.0, high=12.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    bits: Annotated[Value, number(low=1.0, high=16.0, step=0.1, unit="bit", label="Bits", moves=True)] = 6.0
    reading_hz: Annotated[
        float,
        number(
            low=100.0,
            high=WHOLE_RATE_HZ,
            step=1.0,
            scale="log",
            unit="Hz",
            label="Rate",
            help="How often the wave is read; every sample at 48 kHz",
        ),
    ] = 12000.0
    mirrors: Annotated[
        bool, switch(label="Mirrored tones", help="Off: filters before and behind keep to what the rate can hold")
    ] = True

    def unused(self) -> tuple[str, ...]:
        """It is not oversampled: its tones are meant to mirror."""
        return ("oversampling",)

    def _step(self) -> Value:
        """Half the range over the number of levels in it: what is rounded to."""
        return mapped(self.bits, lambda bits: 2.0 ** (bits - 1.0))

    def transfer(self, inputs: Curved) -> Curved:
        driven = inputs * np.float32(db_to_gain(least(self.drive_db)))
        return np.asarray(quantised(driven, least(self._step())) * db_to_gain(least(self.output_db)), np.float32)

    def driven(self, audio: Audio, clock: Clock) -> Audio:
        audio, gain = pushed(audio, mapped(self.drive_db, db_to_gain))
        audio = audio * np.float32(gain)
        sections = self._sections(clock.rate_hz)
        audio = filtered(audio, sections, looped=clock.looped)
        if self.reading_hz < clock.rate_hz:
            audio = held(audio, self.reading_hz, clock)
        wet = quantised(audio, per_frame(self._step()))
        return filtered(wet, sections, looped=clock.looped)

    def _sections(self, rate_hz: int) -> Sections:
        edge = BELOW_HALF * self.reading_hz / 2.0
        if self.mirrors or edge > 0.45 * rate_hz:
            return np.zeros((0, 5))
        return in_cascade(*[low_pass(edge, q, rate_hz) for q in butterworth_qs(ORDER)])

    def sketch(self) -> Sketch:
        return transfer_sketch(quantised(transfer_inputs(), least(self._step())))

    def tail_seconds(self, clock: Clock) -> float:
        return super().tail_seconds(clock) + 1.0 / self.reading_hz + self._rings(clock)

    def memory_seconds(self, clock: Clock) -> float:
        return super().memory_seconds(clock) + 1.0 / self.reading_hz + HEARD_OF_A_TAIL * self._rings(clock)

    def _rings(self, clock: Clock) -> float:
        sections = self._sections(clock.rate_hz)
        return 2.0 * settles(sections) / clock.rate_hz if len(sections) else 0.0


def held(audio: Audio, reading_hz: float, clock: Clock) -> Audio:
    """The audio read at a rate, counted from the start of the loop, and held until it is read again."""
    frames = clock.around() if clock.begins is not None else np.arange(audio.shape[1])
    ratio = reading_hz / clock.rate_hz
    first = np.ceil(np.floor(frames * ratio) / ratio - 1e-9).astype(np.int64)
    read = np.maximum(np.arange(audio.shape[1]) - (frames - first), 0)
    return np.ascontiguousarray(audio[:, read])
