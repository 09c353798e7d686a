"""Treatment: a filter with a shape of its own, that may be swept."""

from __future__ import annotations

from functools import partial
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.assets import AssetLoader, no_assets
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.combs import combed, feedback_of, rings_seconds
from apilado.core.dsp.curves import Value, greatest, least, mapped, per_frame, rows
from apilado.core.dsp.filters import (
    HEARD_OF_A_TAIL,
    Knots,
    Sections,
    analogue_section,
    butterworth_qs,
    filtered,
    high_pass,
    in_cascade,
    low_pass,
    sections_response,
    settle_frames,
)
from apilado.core.dsp.moving_filters import moving_filtered, some_at_a_time
from apilado.core.dsp.shapers import soft_clip
from apilado.core.parameters import choice, number
from apilado.core.sketch import SKETCH_POINTS, Sketch, response_sketch
from apilado.core.treatments.base import Handle, Treatment, Turning, blended
from apilado.core.units import db_to_gain, short_hz

Shape = Literal["low-pass", "high-pass", "band-pass", "notch", "comb", "vowel"]
VOWELS_HZ = np.array(
    (
        (300.0, 870.0, 2240.0),
        (570.0, 840.0, 2410.0),
        (730.0, 1090.0, 2440.0),
        (530.0, 1840.0, 2480.0),
        (270.0, 2290.0, 3010.0),
    )
)
"""Formants of u, o, a, e and i: means of men's voices after G. Peterson and H. Barney, "Control methods used in a study
of the vowels", JASA 24, 1952."""
FORMANT_DB = (0.0, -6.0, -12.0)
FORMANT_Q = 6.0
ALL_DRIVEN_DB = 6.0
SKETCH_RATE_HZ = 96000
HIGHEST_SHARE = 0.45
"""Of the rate: no filter is set higher."""


class Filter(Treatment):
    """Low-pass, high-pass, band-pass, notch, comb or vowel; cutoff and resonance may move; with drive into it."""

    label: ClassVar[str] = "Filter"
    family: ClassVar[str] = "Filter"
    each_channel: ClassVar[bool] = True
    explains: ClassVar[str] = "Low-pass, high-pass, band-pass, notch, comb or vowel, swept and driven"
    leading: ClassVar[tuple[str, ...]] = ("shape", "cutoff_hz", "resonance", "vowel", "slope", "drive_db", "blend")

    kind: Literal["filter"] = "filter"
    shape: Annotated[Shape, choice(label="Shape")] = "low-pass"
    slope: Annotated[Literal[12, 24], choice(label="Slope", unit="dB/oct")] = 24
    cutoff_hz: Annotated[
        Value, number(low=20.0, high=18000.0, step=1.0, scale="log", unit="Hz", label="Cutoff", moves=True)
    ] = 800.0
    follow: Annotated[
        float,
        number(
            low=0.0,
            high=1.0,
            label="Follows the notes",
            help="1: the cutoff goes up by an octave where the notes do; it stands as it is set at C2",
        ),
    ] = 0.0
    resonance: Annotated[
        Value, number(low=0.0, high=1.0, label="Resonance", help="0 is flat, 1 rings for long", moves=True)
    ] = 0.2
    vowel: Annotated[
        Value, number(low=0.0, high=4.0, label="Vowel", help="0 u, 1 o, 2 a, 3 e, 4 i, and between", moves=True)
    ] = 2.0
    drive_db: Annotated[
        Value,
        number(low=0.0, high=36.0, step=0.1, unit="dB", label="Drive", help="Softly clipped before it", moves=True),
    ] = 0.0
    output_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", moves=True)] = 1.0

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing in the shape chosen."""
        if self.shape == "vowel":
            return ("cutoff_hz", "follow", "slope", "resonance")
        return ("vowel", "slope") if self.shape == "comb" else ("vowel",)

    def follows_notes(self) -> tuple[tuple[str, float], ...]:
        return (("cutoff_hz", self.follow),) if self.follow > 0.0 and self.shape != "vowel" else ()

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        wet = self._driven(audio)
        if self.shape == "comb":
            wet = combed(wet, self.cutoff_hz, mapped(self.resonance, _feedbacks), **self._comb(clock))
        else:
            first, *others = self._parts(clock.rate_hz)
            driven, wet = wet, self._through(wet, first, clock)
            for part in others:
                wet += self._through(driven, part, clock)
        return blended(audio, wet, blend=self.blend, output_db=self.output_db, in_place=True)

    def _driven(self, audio: Audio) -> Audio:
        if isinstance(self.drive_db, float) and self.drive_db == 0.0:
            return audio
        gain = np.asarray(per_frame(mapped(self.drive_db, db_to_gain)), np.float32)
        share = np.asarray(per_frame(mapped(self.drive_db, _driven_share)), np.float32)
        return np.asarray(audio + share * (soft_clip(audio * gain, 1.0) - audio))

    def _comb(self, clock: Clock) -> dict[str, Any]:
        return {"rate_hz": clock.rate_hz, "looped": clock.looped, "rings_s": self._comb_rings()}

    def _comb_rings(self) -> float:
        return rings_seconds(least(self.cutoff_hz), feedback_of(greatest(self.resonance)))

    def _through(self, audio: Audio, part: tuple[NDArray[np.int64], Sections, float], clock: Clock) -> Audio:
        at, sections, gain = part
        if at.shape[0] == 1:
            found = filtered(audio, sections[0], looped=clock.looped)
        else:
            found = moving_filtered(audio, at, sections, looped=clock.looped)
        return found if gain == 1.0 else found * np.float32(gain)

    def _parts(self, rate_hz: int) -> list[tuple[NDArray[np.int64], Sections, float]]:
        """(frames of knots, a cascade at each, gain) of what stands side by side."""
        if self.shape == "vowel":
            at, values = rows((self.vowel,))
            formants = _between_vowels(values[:, 0])
            bands = [
                some_at_a_time(partial(_band, q=FORMANT_Q, rate_hz=rate_hz), formants[:, n])
                for n in range(formants.shape[1])
            ]
            return [(at, band, float(db_to_gain(db))) for band, db in zip(bands, FORMANT_DB, strict=True)]
        at, values = rows((self.cutoff_hz, self.resonance))
        return [(at, some_at_a_time(partial(self._cascade, rate_hz=rate_hz), *values.T), 1.0)]

    def _cascade(self, cutoff: NDArray[np.float64], resonance: NDArray[np.float64], rate_hz: int) -> Sections:
        """The sections at each knot, shape (knots, sections, 5)."""
        hertz, peak = np.minimum(cutoff, HIGHEST_SHARE * rate_hz), 40.0**resonance
        if self.shape in ("band-pass", "notch"):
            make = _band if self.shape == "band-pass" else _notch
            return in_cascade(*[make(hertz, peak * 0.7, rate_hz) for _ in range(self.slope // 12)])
        make_pass = low_pass if self.shape == "low-pass" else high_pass
        *flat, sharpest = sorted(butterworth_qs(2 * self.slope // 12))
        others: list[Knots] = [np.full_like(hertz, q) for q in flat]
        return in_cascade(*[make_pass(hertz, q, rate_hz) for q in (*others, sharpest * peak)])

    def handle(self) -> Handle:
        if self.shape == "vowel":
            formant = float(_between_vowels(np.array([least(self.vowel)]))[0, 0])
            most = float(VOWELS_HZ.shape[0] - 1)
            return Handle(formant, "", least(self.vowel) / most, "vowel", most, f"vowel {least(self.vowel):.2f}")
        hertz, ringing = least(self.cutoff_hz), least(self.resonance)
        return Handle(hertz, "cutoff_hz", ringing, "resonance", 1.0, f"{short_hz(hertz)}, resonance {ringing:.2f}")

    def response(
        self, frequencies_hz: NDArray[np.float64], rate_hz: int, load: AssetLoader = no_assets
    ) -> NDArray[np.complex128]:
        """What it does at each frequency where it stands still, or where it moves least, before its drive."""
        return self._response(frequencies_hz, rate_hz)

    def _response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        if self.shape == "comb":
            back = feedback_of(least(self.resonance))
            turned = np.exp(-2j * np.pi * frequencies_hz / least(self.cutoff_hz))
            return np.asarray((1.0 - back) / (1.0 - back * turned))
        total = np.zeros(frequencies_hz.shape, np.complex128)
        for _, sections, gain in self._parts(rate_hz):
            total += gain * sections_response(sections[0], frequencies_hz, rate_hz)
        return total

    def sketch(self) -> Sketch:
        found = np.abs(self._response(np.geomspace(20.0, 20000.0, SKETCH_POINTS), SKETCH_RATE_HZ))
        return response_sketch(20.0 * np.log10(np.maximum(found, 1e-3)))

    def tail_seconds(self, clock: Clock) -> float:
        if self.shape == "comb":
            return self._comb_rings()
        cascades = [each for _, moving, _ in self._parts(clock.rate_hz) for each in moving]
        return max(map(settle_frames, cascades)) / clock.rate_hz

    def turns_phase(self) -> Turning:
        return "fixed"

    def memory_seconds(self, clock: Clock) -> float:
        return (0.6 if self.shape == "comb" else HEARD_OF_A_TAIL) * self.tail_seconds(clock)

    def fading_seconds(self, clock: Clock) -> float:
        return 0.0 if self.shape == "comb" else self.memory_seconds(clock)


def _driven_share(drive_db: NDArray[np.float64]) -> NDArray[np.float64]:
    """How much of the sound is driven: none without drive, all of it from ALL_DRIVEN_DB on."""
    return np.asarray(np.clip(drive_db / ALL_DRIVEN_DB, 0.0, 1.0))


def _feedbacks(resonances: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(np.vectorize(feedback_of)(resonances))


def _between_vowels(places: NDArray[np.float64]) -> NDArray[np.float64]:
    """Formants in Hz at places among the vowels, shape (places, 3); between two, in octaves."""
    octaves, all_places = np.log2(VOWELS_HZ), np.arange(VOWELS_HZ.shape[0])
    found = [np.interp(places, all_places, octaves[:, n]) for n in range(octaves.shape[1])]
    return np.asarray(2.0 ** np.stack(found, axis=1))


def _band(hertz: Knots, q: Knots, rate_hz: int) -> Sections:
    """Second-order band-pass (s/Q)/(s² + s/Q + 1): 0 dB in its middle."""
    return analogue_section((0.0, 1.0 / q, 0.0), (1.0, 1.0 / q, 1.0), hertz, rate_hz)


def _notch(hertz: Knots, q: Knots, rate_hz: int) -> Sections:
    """Second-order notch (s² + 1)/(s² + s/Q + 1)."""
    return analogue_section((1.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0), hertz, rate_hz)
