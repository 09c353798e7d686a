"""Treatment: echoes, left and right by themselves."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value, greatest, least, mapped, per_frame
from apilado.core.dsp.echoes import FEWEST_FRAMES, echoed, forgotten_seconds
from apilado.core.parameters import choice, number, switch
from apilado.core.sketch import Sketch, echo_sketch
from apilado.core.treatments.base import Turning
from apilado.core.treatments.widening import Widening
from apilado.core.units import db_to_gain

LONGEST_MS = 2000.0
NOTE_BEATS = {
    "1/64": 1 / 16,
    "1/32": 1 / 8,
    "1/16 triplet": 1 / 6,
    "1/16": 1 / 4,
    "1/8 triplet": 1 / 3,
    "1/16 dotted": 3 / 8,
    "1/8": 1 / 2,
    "1/4 triplet": 2 / 3,
    "1/8 dotted": 3 / 4,
    "1/4": 1.0,
    "1/4 dotted": 3 / 2,
    "1/2": 2.0,
}
"""Beats of a note value: a quarter is one."""
Time = Literal[
    "ms",
    "1/64",
    "1/32",
    "1/16 triplet",
    "1/16",
    "1/8 triplet",
    "1/16 dotted",
    "1/8",
    "1/4 triplet",
    "1/8 dotted",
    "1/4",
    "1/4 dotted",
    "1/2",
]
TIME_NAMES = {"ms": "as its ms say"}


def _time(label: str) -> Any:
    """Declares a time in ms."""
    return number(low=0.1, high=LONGEST_MS, step=0.1, scale="log", unit="ms", label=label, moves=True)


class Delay(Widening):
    """Echoes of a sound, by a time left and another right; a centre that stays as it is, if it is to."""

    label: ClassVar[str] = "Delay"
    family: ClassVar[str] = "Time"
    explains: ClassVar[str] = "Echoes left and right, in ms or note values; from 1 to 25 ms apart they widen"
    rings_on: ClassVar[bool] = True
    leading: ClassVar[tuple[str, ...]] = ("left_ms", "right_ms", "feedback", "blend", "dry_stays")

    kind: Literal["delay"] = "delay"
    left_ms: Annotated[Value, _time("Left")] = 11.0
    right_ms: Annotated[Value, _time("Right")] = 17.0
    left_note: Annotated[Time, choice(label="Left lasts", names=TIME_NAMES)] = "ms"
    right_note: Annotated[Time, choice(label="Right lasts", names=TIME_NAMES)] = "ms"
    feedback: Annotated[Value, number(low=0.0, high=0.9, label="Feedback", moves=True)] = 0.0
    ping_pong: Annotated[
        bool, switch(label="Ping-pong", help="The middle goes left first; each echo comes from the other side")
    ] = False
    dry_stays: Annotated[
        bool, switch(label="Dry stays", help="The centre at its full level, and the echoes beside it by their blend")
    ] = True
    opposed: Annotated[
        bool, switch(label="Right turned over", help="Equal echoes then cancel in mono, and only widen")
    ] = False
    low_cut_hz: Annotated[
        float,
        number(low=0.0, high=2000.0, step=1.0, unit="Hz", label="Low cut", help="Of each echo, 6 dB per octave"),
    ] = 0.0
    high_cut_hz: Annotated[
        float,
        number(
            low=200.0,
            high=20000.0,
            step=1.0,
            scale="log",
            unit="Hz",
            label="High cut",
            help="Of each echo, 6 dB per octave; off at 20 kHz",
        ),
    ] = 20000.0

    def unused(self) -> tuple[str, ...]:
        """Times in ms where notes say them."""
        return tuple(f"{side}_ms" for side in ("left", "right") if getattr(self, f"{side}_note") != "ms")

    def _late_ms(self, side: str, clock: Clock) -> Value:
        note = getattr(self, f"{side}_note")
        late: Value = getattr(self, f"{side}_ms") if note == "ms" else NOTE_BEATS[note] * 60000.0 / clock.tempo_bpm
        return late

    def _late_frames(self, side: str, clock: Clock) -> Value:
        """A whole number of frames where it stands still: an echo is then there to the sample, and as bright."""
        late = self._late_ms(side, clock)
        if isinstance(late, Curve) and np.ptp(late.values) == 0.0:
            late = float(late.values[0])
        if isinstance(late, Curve):
            return mapped(late, lambda ms: np.maximum(ms * (clock.rate_hz / 1000.0), FEWEST_FRAMES))
        return float(max(FEWEST_FRAMES, clock.samples_in_ms(late)))

    def wet(self, audio: Audio, clock: Clock) -> Audio:
        late = self._late_frames("left", clock), self._late_frames("right", clock)
        filters: dict[str, Any] = {
            "low_cut_hz": self.low_cut_hz,
            "high_cut_hz": self.high_cut_hz if self.high_cut_hz < 20000.0 else float(clock.rate_hz),
        }
        render: dict[str, Any] = {"rate_hz": clock.rate_hz, "looped": clock.looped, "rings_s": self.wet_seconds(clock)}
        found = echoed(audio, late, self.feedback, crossed=self.ping_pong, **filters, **render)
        if self.opposed:
            found[1] *= np.float32(-1.0)
        return found

    def mixed(self, dry: Audio, wet: Audio) -> Audio:
        if not self.dry_stays:
            return super().mixed(dry, wet)
        gain = np.asarray(per_frame(mapped(self.output_db, db_to_gain)), np.float32)
        return np.asarray(dry + wet * (gain * np.asarray(per_frame(self.blend), np.float32)))

    def wet_seconds(self, clock: Clock) -> float:
        longest = max(greatest(self._late_ms(side, clock)) for side in ("left", "right")) / 1000.0 + 1e-3
        filters = 3.0 / max(self.low_cut_hz, 1.0) if self.low_cut_hz > 0.0 else 0.0
        return forgotten_seconds(longest, greatest(self.feedback)) + filters

    def turns_phase(self) -> Turning:
        return "fixed"

    def sketch(self) -> Sketch:
        """Four echoes of each side; those in note values at 120 bpm."""
        clock, back = Clock(120.0, 4.0, 48000, looped=False), least(self.feedback)
        left, right = (least(self._late_ms(side, clock)) / 1000.0 for side in ("left", "right"))
        echoes = {}
        for round_ in range(4 if back else 1):
            crossed = (round_ + 2) // 2 * left + (round_ + 1) // 2 * right
            times = (crossed,) if self.ping_pong else ((round_ + 1) * left, (round_ + 1) * right)
            echoes.update(dict.fromkeys(times, back**round_))
        return echo_sketch(echoes)

    def in_words(self) -> str:
        times = [
            f"{least(getattr(self, f'{side}_ms')):g} ms"
            if getattr(self, f"{side}_note") == "ms"
            else getattr(self, f"{side}_note")
            for side in ("left", "right")
        ]
        said = f"{times[0]} left, {times[1]} right" if times[0] != times[1] else times[0]
        back = least(self.feedback)
        return said + (f", feedback {back:g}" if back else "") + (", ping-pong" if self.ping_pong else "")
