"""Source: a recorded take, audio laid on the timeline."""

from __future__ import annotations

import math
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from apilado.core.assets import SHA256_PATTERN, AssetLoader
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.envelopes import rising
from apilado.core.dsp.sampling import STRETCHES, read_at_places, stretched
from apilado.core.dsp.stereo import mixed_at
from apilado.core.notes import FIRST_BEAT
from apilado.core.parameters import number, switch, text
from apilado.core.sources.base import Mark, Marks, Score, Source
from apilado.core.sources.voice import Voice
from apilado.core.units import cents_to_ratio, db_to_gain
from apilado.errors import InvalidEdit

EDGE_MS = 3.0
SHORTEST_STRETCH, LONGEST_STRETCH = 0.1, 10.0
SHORTEST_BEATS = 0.25
"""It is laid no more often than this."""


NO_NOTES = Score((), 0, 0, Voice())
"""What a take plays from where it belongs to no layer."""


class TakeSource(Source):
    """Audio as it was played: it does not follow the pattern."""

    label: ClassVar[str] = "Recorded take"
    plays_notes: ClassVar[bool] = False
    finds: ClassVar[tuple[str, ...]] = ("notes",)

    kind: Literal["take"] = "take"
    asset: str = Field(pattern=SHA256_PATTERN, description="SHA-256 of the audio file")
    file_name: Annotated[str, text(label="File", longest=200)] = "take.wav"
    start_beats: Annotated[
        float, number(low=0.0, high=1024.0, step=0.25, first=FIRST_BEAT, over="piece", label="Beat")
    ] = 0.0
    every_beats: Annotated[
        float,
        number(
            low=0.0,
            high=1024.0,
            step=0.25,
            unit="beats",
            over="piece",
            label="Again after",
            help="It is laid again and again after so many beats, each cut by the next; 0: once",
        ),
    ] = 0.0
    skip_ms: Annotated[
        float,
        number(
            low=0.0,
            high=600000.0,
            step=1.0,
            unit="ms",
            over="file",
            label="Skip",
            help="Left out at the file's beginning",
        ),
    ] = 0.0
    gain_db: Annotated[float, number(low=-60.0, high=24.0, step=0.1, unit="dB", label="Gain")] = 0.0
    lasts_ms: Annotated[
        float,
        number(
            low=0.0, high=600000.0, step=1.0, unit="ms", over="file", label="Lasts", help="Of the file; 0: to its end"
        ),
    ] = 0.0
    own_bpm: Annotated[
        float,
        number(
            low=0.0,
            high=400.0,
            step=0.01,
            unit="bpm",
            label="Its own tempo",
            help="It is stretched from this to the tempo of the stack; 0: it stays as it was played",
        ),
    ] = 0.0
    tune_cents: Annotated[
        float,
        number(low=-1200.0, high=1200.0, step=0.1, unit="cents", label="Tuned", help="Higher, at the same length"),
    ] = 0.0
    backwards: Annotated[bool, switch(label="Reversed")] = False

    @classmethod
    def beginning(cls, stack: Any, layer: Any) -> dict[str, Any]:
        raise InvalidEdit("a take needs its audio: press 'Use an audio file' and choose one")

    def in_words(self) -> str:
        said = [self.file_name, *(["reversed"] if self.backwards else [])]
        said += [f"from {self.own_bpm:g} bpm"] if self.own_bpm else []
        said += [f"{self.tune_cents:+g} cents".replace("-", "−")] if self.tune_cents else []
        return ", ".join(said)

    def drifts(self) -> tuple[str, ...]:
        return ("'{layer}' is a recording: where it was played against the others in pitch, no setting holds.",)

    def marks(self) -> Marks:
        end = self.skip_ms + self.lasts_ms if self.lasts_ms > 0.0 else 0.0
        places = {"start": Mark("skip_ms", self.skip_ms), "end": Mark("lasts_ms", end, self.skip_ms)}
        return Marks(self.asset, self.file_name, places)

    def asset_hashes(self) -> tuple[str, ...]:
        return (self.asset,)

    def render(self, score: Score, clock: Clock, load: AssetLoader) -> Audio:
        audio = self._laid(load(self.asset, clock.rate_hz), clock)
        out = np.zeros((audio.shape[0], clock.frames), np.float32)
        starts = self.starts_beats(clock.beats)
        for beat, following in zip(starts, (*starts[1:], clock.beats), strict=True):
            # What would pass the next one, or the end of the loop, is cut there: a take is not folded over itself.
            start = clock.sample_at(beat)
            part = audio[:, : max(0, clock.sample_at(following) - start)] * np.float32(db_to_gain(self.gain_db))
            edge = min(clock.samples_in_ms(EDGE_MS), part.shape[1] // 2)
            if edge:
                part[:, :edge] *= rising(edge).astype(np.float32)
                part[:, -edge:] *= rising(edge)[::-1].astype(np.float32)
            for place in clock.places(start, part.shape[1]):
                mixed_at(out, part, place, looped=False)
        return out

    def _laid(self, audio: Audio, clock: Clock) -> Audio:
        """What of the file is laid: cut, reversed, at the tempo of the stack, in tune."""
        first = clock.samples_in_ms(self.skip_ms)
        cut = audio[:, first : first + clock.samples_in_ms(self.lasts_ms)] if self.lasts_ms > 0.0 else audio[:, first:]
        cut = cut[:, ::-1] if self.backwards else cut
        longer = self.own_bpm / clock.tempo_bpm if self.own_bpm > 0.0 else 1.0
        speed = float(cents_to_ratio(self.tune_cents))
        frames = round(cut.shape[1] * min(max(longer, SHORTEST_STRETCH), LONGEST_STRETCH))
        if not cut.shape[1] or (frames == cut.shape[1] and speed == 1.0):
            return cut
        # Longer by as much as it is then read faster: its pitch is changed, its length is not.
        key = (self.asset, self.skip_ms, self.lasts_ms, self.backwards, frames, speed, clock.rate_hz)
        return STRETCHES.get(key, lambda: _tuned(cut, frames, speed, clock.rate_hz))

    def starts_beats(self, beats: float) -> tuple[float, ...]:
        """The beats of a loop at which it is laid."""
        if self.every_beats <= 0.0:
            return (self.start_beats,)
        count = max(1, math.ceil((beats - self.start_beats) / max(self.every_beats, SHORTEST_BEATS)))
        return tuple(self.start_beats + number * max(self.every_beats, SHORTEST_BEATS) for number in range(count))


def _tuned(audio: Audio, frames: int, speed: float, rate_hz: int) -> Audio:
    """A sound at a length, its pitch changed by a ratio."""
    longer = stretched(np.ascontiguousarray(audio, np.float32), round(frames * speed), rate_hz)
    return longer if speed == 1.0 else read_at_places(longer, np.arange(frames, dtype=np.float64) * speed, speed)
