"""Treatment: boxes with a speaker in them, and any other impulse response."""

from __future__ import annotations

import math
from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from apilado.core.assets import SHA256_PATTERN, AssetLoader, no_assets
from apilado.core.clock import Clock
from apilado.core.dsp.agreement import MOST_MOVED_MS, Fit
from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.cabinets import (
    BOXES,
    LONGEST_RESPONSE_S,
    box_response,
    convolved,
    fits_of,
    later,
    summed,
)
from apilado.core.dsp.curves import Value
from apilado.core.dsp.filters import filtered, settle_frames
from apilado.core.parameters import Model, choice, number, parts, switch, text
from apilado.core.parts import Part, new_id
from apilado.core.sketch import Sketch, response_sketch, sketch_hertz
from apilado.core.treatments.base import Treatment, Turning, blended
from apilado.core.treatments.drive import (
    HIGHEST_HZ,
    LOWEST_HZ,
    high_pass_number,
    low_pass_number,
    passed_between,
)
from apilado.core.units import db_to_gain, ms_to_samples

MOST_RESPONSES = 4
SKETCH_RATE_HZ = 48000
FILTERS_RING_S = 0.2
"""So long the cuts of a response are heard behind it, and what it is moved by to agree."""


class RecordedResponse(Model):
    """An impulse response in an audio file."""

    asset: str = Field(pattern=SHA256_PATTERN, description="SHA-256 of the audio file")
    file_name: Annotated[str, text(label="File", longest=200)] = "response.wav"
    lasts_s: float = Field(
        default=LONGEST_RESPONSE_S, gt=0.0, le=LONGEST_RESPONSE_S, description="So much of the file is taken, in s"
    )


class ImpulseResponse(Part):
    """One impulse response: of a box of ours, or from a file."""

    label: ClassVar[str] = "Response"
    leading: ClassVar[tuple[str, ...]] = ("box", "level_db", "delay_ms", "polarity")

    box: Annotated[
        Literal["boathouse", "bilge", "wheelhouse", "net-loft", "crate", "gantry-horn"],
        choice(label="Box", names={name: box.name for name, box in BOXES.items()}),
    ] = "boathouse"
    recorded: RecordedResponse | None = Field(default=None, description="One from a file; null is the box")
    on: Annotated[bool, switch(label="On")] = True
    level_db: Annotated[float, number(low=-40.0, high=12.0, step=0.1, unit="dB", label="Level")] = 0.0
    delay_ms: Annotated[float, number(low=0.0, high=20.0, step=0.01, unit="ms", label="Delay")] = 0.0
    polarity: Annotated[Literal["normal", "inverted"], choice(label="Polarity")] = "normal"
    low_cut_hz: Annotated[float, high_pass_number("Low cut", "12 dB per octave; off at 20 Hz")] = LOWEST_HZ
    high_cut_hz: Annotated[float, low_pass_number("High cut", "12 dB per octave; off at 20 kHz")] = HIGHEST_HZ

    def unused(self) -> tuple[str, ...]:
        """The box, where there is a file."""
        return ("box",) if self.recorded else ()

    def seconds(self) -> float:
        """How long it lasts."""
        return (self.recorded.lasts_s if self.recorded else BOXES[self.box].seconds) + self.delay_ms / 1000.0

    def in_words(self) -> str:
        said = self.recorded.file_name if self.recorded else BOXES[self.box].name
        return f"{said}, {self.level_db:+g} dB".replace("-", "−") if self.level_db else said

    def read(self, rate_hz: int, load: AssetLoader = no_assets) -> Audio:
        """The response alone, shape (1 or 2, frames): no longer than ten seconds."""
        if self.recorded is None:
            return box_response(BOXES[self.box], rate_hz)
        found = load(self.recorded.asset, rate_hz)[:, : math.ceil(self.recorded.lasts_s * rate_hz)]
        return as_audio(found) if found.shape[1] else np.zeros((1, 1), np.float32)

    def finished(self, response: Audio, fit: Fit, early: int, rate_hz: int) -> Audio:
        """The response where it is to be, at its level and between its cuts."""
        gain = float(db_to_gain(self.level_db)) * (-1.0 if (self.polarity == "inverted") != fit.inverted else 1.0)
        placed = later(response, early + fit.frames + self.delay_ms * rate_hz / 1000.0) * np.float32(gain)
        cuts = passed_between(self.low_cut_hz, self.high_cut_hz, rate_hz)
        if not len(cuts):
            return placed
        room = min(settle_frames(cuts), round(FILTERS_RING_S * rate_hz))
        return filtered(np.pad(placed, ((0, 0), (0, room))), cuts, looped=False)


class Cabinet(Treatment):
    """Up to four impulse responses side by side, each with a level, a delay, a polarity and cuts of its own."""

    label: ClassVar[str] = "Cabinet"
    family: ClassVar[str] = "Cabinet"
    explains: ClassVar[str] = "Boxes with a speaker in them, up to four at once; or a response from a file"
    prepares: ClassVar[bool] = True
    widens: ClassVar[bool] = True
    leading: ClassVar[tuple[str, ...]] = ("align", "blend", "output_db")

    kind: Literal["cabinet"] = "cabinet"
    responses: tuple[ImpulseResponse, ...] = parts(
        "response", least=1, most=MOST_RESPONSES, begin=lambda: (ImpulseResponse(id=new_id()),)
    )
    align: Annotated[
        bool,
        switch(label="Align", help="Moves and turns the others so that they agree with the first, and do not comb"),
    ] = False
    output_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", moves=True)] = 1.0

    def asset_hashes(self) -> tuple[str, ...]:
        return tuple(each.recorded.asset for each in self.responses if each.recorded)

    def _early(self, rate_hz: int) -> int:
        """Frames of what is prepared that come before the sound: there a response may be moved to."""
        return ms_to_samples(MOST_MOVED_MS, rate_hz) if self.align else 0

    def prepared(self, rate_hz: int, load: AssetLoader = no_assets) -> Audio:
        """The sum of its responses, shape (1 or 2, frames)."""
        heard = [each for each in self.responses if each.on]
        if not heard:
            return np.zeros((1, 1 + self._early(rate_hz)), np.float32)
        read = [each.read(rate_hz, load) for each in heard]
        fits = fits_of(read, rate_hz) if self.align else [Fit()] * len(read)
        early = self._early(rate_hz)
        return summed(
            [each.finished(sound, fit, early, rate_hz) for each, sound, fit in zip(heard, read, fits, strict=True)]
        )

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        response = self.prepared(clock.rate_hz, no_assets) if key is None else key
        wet = convolved(audio, response, looped=clock.looped, early=self._early(clock.rate_hz))
        return blended(audio, wet, blend=self.blend, output_db=self.output_db)

    def response(
        self, frequencies_hz: NDArray[np.float64], rate_hz: int, load: AssetLoader = no_assets
    ) -> NDArray[np.complex128]:
        """What all of its responses do together to each frequency, before its blend; of two channels their mean."""
        found = np.asarray(np.mean(self.prepared(rate_hz, load), axis=0, dtype=np.float64))
        size = max(1 << 15, 1 << (found.shape[0] - 1).bit_length())
        at = np.clip(frequencies_hz * size / rate_hz, 0.0, size / 2.0)
        magnitude = np.abs(np.fft.rfft(found, size))
        return np.asarray(np.interp(at, np.arange(magnitude.shape[0]), magnitude), np.complex128)

    def tail_seconds(self, clock: Clock) -> float:
        return max(each.seconds() for each in self.responses) + FILTERS_RING_S

    def memory_seconds(self, clock: Clock) -> float:
        return self.tail_seconds(clock)

    def ahead_seconds(self, clock: Clock) -> float:
        return MOST_MOVED_MS / 1000.0 if self.align else 0.0

    def turns_phase(self) -> Turning:
        return "fixed"

    def sketch(self) -> Sketch | None:
        if self.asset_hashes():
            return None
        found = np.abs(self.response(sketch_hertz(), SKETCH_RATE_HZ))
        return response_sketch(20.0 * np.log10(np.maximum(found, 1e-3)))

    def in_words(self) -> str:
        return " + ".join(each.in_words() for each in self.responses if each.on) or "nothing"
