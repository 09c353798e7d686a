"""What all drives share: how hard, what of the sound is driven, what of it comes through, oversampling, DC, level."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least, mapped, pushed
from apilado.core.dsp.filters import (
    DC_MEMORY_S,
    NO_SECTIONS,
    Sections,
    butterworth_qs,
    dc_blocker,
    filtered,
    heard_frames,
    high_pass,
    in_cascade,
    low_pass,
    settle_frames,
    without_dc,
)
from apilado.core.dsp.oversampling import Shaper, oversampled
from apilado.core.parameters import choice, number, switch
from apilado.core.sketch import Sketch, transfer_inputs, transfer_sketch
from apilado.core.treatments.base import Treatment, blended
from apilado.core.units import db_to_gain

LOWEST_HZ, HIGHEST_HZ = 20.0, 20000.0
"""Where a high-pass and a low-pass of a drive are off."""
(FLAT_Q,) = butterworth_qs(2)
Curved = NDArray[np.float32]


def high_pass_number(label: str, help: str) -> Any:
    """Declares a high-pass that may be off."""
    return number(low=LOWEST_HZ, high=2000.0, step=1.0, scale="log", unit="Hz", label=label, help=help)


def low_pass_number(label: str, help: str) -> Any:
    """Declares a low-pass that may be off."""
    return number(low=100.0, high=HIGHEST_HZ, step=1.0, scale="log", unit="Hz", label=label, help=help)


def passed_between(low_hz: float, high_hz: float, rate_hz: int) -> Sections:
    """A high-pass and a low-pass of 12 dB per octave; at the end of its range either is off."""
    low = high_pass(low_hz, FLAT_Q, rate_hz) if low_hz > LOWEST_HZ else NO_SECTIONS
    high = low_pass(high_hz, FLAT_Q, rate_hz) if high_hz < HIGHEST_HZ else NO_SECTIONS
    return in_cascade(low, high)


class Drive(Treatment):
    """A curve that a sound is driven into. Subclasses override `driven` or `shaper`, and `transfer`.

    Filters before it decide what is driven: the rest goes by as it is, so that with no drive all of it is there again.
    Filters behind it decide what comes through of what the drive has added or taken. Neither moves the clean sound, so
    a blend with it does not comb.
    """

    family: ClassVar[str] = "Drive"
    dc_goes: ClassVar[Literal["of all", "of what is added", ""]] = "of what is added"
    """So that nothing is there to be heard where nothing is added: a filter against DC turns low phases a little."""
    leading: ClassVar[tuple[str, ...]] = ("drive_db", "blend", "output_db")
    has_curve: ClassVar[bool] = True
    each_channel: ClassVar[bool] = True

    drive_db: Annotated[Value, number(low=0.0, high=48.0, step=0.1, unit="dB", label="Drive", moves=True)] = 12.0
    output_db: Annotated[Value, number(low=-48.0, high=12.0, step=0.1, unit="dB", label="Output", moves=True)] = -3.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", help="0 is clean, 1 all driven", moves=True)] = 1.0
    oversampling: Annotated[Literal[1, 2, 4, 8], choice(label="Oversampling", unit="×")] = 4
    before_high_pass_hz: Annotated[
        float, high_pass_number("High-pass before", "What lies below goes by undriven; off at 20 Hz")
    ] = LOWEST_HZ
    before_low_pass_hz: Annotated[
        float, low_pass_number("Low-pass before", "What lies above goes by undriven; off at 20 kHz")
    ] = HIGHEST_HZ
    after_high_pass_hz: Annotated[
        float, high_pass_number("High-pass after", "Below it nothing is added; off at 20 Hz")
    ] = LOWEST_HZ
    after_low_pass_hz: Annotated[
        float, low_pass_number("Low-pass after", "Above it nothing is added; off at 20 kHz")
    ] = HIGHEST_HZ
    keep_level: Annotated[
        bool, switch(label="Keep the level", help="As loud behind it as before it, measured over the whole loop")
    ] = False

    def shaper(self, gain: float) -> tuple[Shaper, Shaper | None]:
        """(the curve that a sound is pushed into by a gain, the same averaged between neighbours or None)."""
        raise NotImplementedError

    def transfer(self, inputs: Curved) -> Curved:
        """What comes out for steady inputs, at its drive and its output; where the drive moves, at its least."""
        out = self.shaper(float(db_to_gain(least(self.drive_db))))[0](inputs)
        return np.asarray(out * db_to_gain(least(self.output_db)), np.float32)

    def curve_scale(self) -> tuple[float, float]:
        return float(db_to_gain(least(self.drive_db))), float(db_to_gain(least(self.output_db)))

    def driven(self, audio: Audio, clock: Clock) -> Audio:
        """The sound behind the curve, before its output and its blend; an array of its own, that may be written to."""
        pushed_in, gain = pushed(audio, mapped(self.drive_db, db_to_gain))
        curve, between = self.shaper(gain)
        how: dict[str, Any] = {"looped": clock.looped, "rough_frames": clock.rough_frames}
        return oversampled(pushed_in, self.oversampling, curve, between=between, **how)

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        before, after = self._filters(clock.rate_hz)
        taken = filtered(audio, before, looped=clock.looped)
        wet = self.driven(taken, clock)
        # An odd curve too makes DC of a wave that is not symmetric: it goes.
        given: dict[str, Any] = {"looped": clock.looped, "midway": clock.begins is not None}
        if self.dc_goes == "of all":
            wet = without_dc(wet, clock.rate_hz, **given)
        elif self.dc_goes == "of what is added":
            wet -= taken
            wet = without_dc(wet, clock.rate_hz, **given)
            wet += taken
        if len(before):
            wet += audio - taken
        if len(after):
            wet -= audio
            wet = filtered(wet, after, looped=clock.looped, in_place=True)
            wet += audio
        return blended(audio, wet, blend=self.blend, output_db=self.output_db, in_place=True)

    def _filters(self, rate_hz: int) -> tuple[Sections, Sections]:
        return (
            passed_between(self.before_high_pass_hz, self.before_low_pass_hz, rate_hz),
            passed_between(self.after_high_pass_hz, self.after_low_pass_hz, rate_hz),
        )

    def keeps_level(self) -> bool:
        return self.keep_level

    def sketch(self) -> Sketch | None:
        return transfer_sketch(self.shaper(float(db_to_gain(least(self.drive_db))))[0](transfer_inputs()))

    def tail_seconds(self, clock: Clock) -> float:
        rings = sum(settle_frames(sections) for sections in self._filters(clock.rate_hz) if len(sections))
        return (settle_frames(dc_blocker(clock.rate_hz)) + rings) / clock.rate_hz

    def memory_seconds(self, clock: Clock) -> float:
        return DC_MEMORY_S + sum(map(heard_frames, self._filters(clock.rate_hz))) / clock.rate_hz

    def fading_seconds(self, clock: Clock) -> float:
        return Drive.memory_seconds(self, clock)
