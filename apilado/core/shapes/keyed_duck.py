"""Duck: a compressor keyed from the trigger's sound."""

from __future__ import annotations

import math
from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least
from apilado.core.dsp.dynamics import FORGOTTEN, Detector, whole_reduction
from apilado.core.dsp.equaliser import butterworth_high_pass, butterworth_low_pass
from apilado.core.dsp.filters import NO_SECTIONS, filtered
from apilado.core.parameters import choice, number
from apilado.core.shapes.base import DuckShape

RMS_MS = 10.0
SHORTEST_RELEASE_MS = 5.0
KEY_SLOPE_DB_PER_OCTAVE = 12
KEY_FILTER_MS = 200.0
"""The filter of the key has rung out by then, down to its lowest cut."""


class KeyedDuck(DuckShape):
    """The trigger's sound, filtered, drives threshold, ratio, attack, hold and release."""

    label: ClassVar[str] = "Compressor"

    kind: Literal["keyed"] = "keyed"
    threshold_db: Annotated[
        Value, number(low=-60.0, high=0.0, step=0.1, unit="dB", label="Threshold", moves=True)
    ] = -24.0
    ratio: Annotated[Value, number(low=1.0, high=50.0, step=0.1, scale="log", unit=":1", label="Ratio", moves=True)] = (
        4.0
    )
    knee_db: Annotated[float, number(low=0.0, high=24.0, step=0.1, unit="dB", label="Knee")] = 6.0
    attack_ms: Annotated[float, number(low=0.0, high=100.0, step=0.1, unit="ms", label="Attack")] = 0.5
    hold_ms: Annotated[float, number(low=0.0, high=500.0, step=1.0, unit="ms", label="Hold")] = 10.0
    release_ms: Annotated[float, number(low=5.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Release")] = 60.0
    range_db: Annotated[Value, number(low=0.0, high=60.0, step=0.1, unit="dB", label="Range", moves=True)] = 12.0
    lookahead_ms: Annotated[float, number(low=0.0, high=20.0, step=0.1, unit="ms", label="Look-ahead")] = 1.0
    detection: Annotated[
        Literal["peak", "rms"], choice(label="Detection", help="Every sample, or the mean of 10 ms")
    ] = "peak"
    key_high_pass_hz: Annotated[
        float,
        number(low=20.0, high=2000.0, step=1.0, scale="log", unit="Hz", label="Key from", help="20 Hz: no filter"),
    ] = 20.0
    key_low_pass_hz: Annotated[
        float,
        number(low=100.0, high=20000.0, step=1.0, scale="log", unit="Hz", label="Key up to", help="20 kHz: no filter"),
    ] = 20000.0

    def detector(self) -> Detector:
        """What makes its gain reduction of the key."""
        return Detector(
            threshold_db=self.threshold_db,
            ratio=self.ratio,
            knee_db=self.knee_db,
            attack_ms=self.attack_ms,
            release_ms=self.release_ms,
            hold_ms=self.hold_ms,
            range_db=self.range_db,
            rms_ms=RMS_MS if self.detection == "rms" else 0.0,
        )

    def heard_key(self, key: Audio, clock: Clock) -> Audio:
        """The key through its filter."""
        rate = clock.rate_hz
        parts = [NO_SECTIONS]
        if self.key_high_pass_hz > 20.0:
            parts.append(butterworth_high_pass(self.key_high_pass_hz, KEY_SLOPE_DB_PER_OCTAVE, rate))
        if self.key_low_pass_hz < 20000.0:
            parts.append(butterworth_low_pass(self.key_low_pass_hz, KEY_SLOPE_DB_PER_OCTAVE, rate))
        return filtered(key, np.vstack(parts), looped=clock.looped)

    def reduction(self, key: Audio, starts: tuple[int, ...], clock: Clock) -> NDArray[np.float32]:
        heard = self.heard_key(key, clock)
        given: dict[str, Any] = {"rate_hz": clock.rate_hz, "looped": clock.looped, "held_db": clock.held_db}
        reduction = whole_reduction(heard, self.detector(), **given)
        ahead = clock.samples_in_ms(self.lookahead_ms)
        if clock.looped:
            return np.roll(reduction, -ahead)
        return np.append(reduction[ahead:], np.zeros(ahead, np.float32))

    def lead_ms(self) -> float:
        # Its attack comes after the hit's onset, not before it: ahead of a hit only the look-ahead moves anything.
        return self.lookahead_ms

    def memory_ms(self) -> float:
        detector = self.detector()
        return FORGOTTEN * (detector.attack_ms + detector.release_ms + detector.rms_ms) + self.hold_ms + KEY_FILTER_MS

    def back_ms(self, clock: Clock) -> float:
        return self.hold_ms + self.release_ms

    def shortened(self, share: float) -> Self | None:
        release = math.floor(self.release_ms * share)
        if release < SHORTEST_RELEASE_MS:
            return None
        return self.model_copy(update={"release_ms": float(release)})

    def overdone(self) -> Self:
        harder = {"threshold_db": max(-60.0, least(self.threshold_db) - 18.0), "ratio": 50.0, "range_db": 40.0}
        return self.model_copy(update=harder)
