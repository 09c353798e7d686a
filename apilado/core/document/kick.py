"""The drums that the stack makes room for: the kick, and further triggers."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator

from apilado.core.assets import SHA256_PATTERN, AssetLoader
from apilado.core.document.path import Points
from apilado.core.dsp.audio import Audio, peak_of
from apilado.core.dsp.envelopes import rising
from apilado.core.dsp.kicks import kick_sound
from apilado.core.dsp.pitch import repitched
from apilado.core.notes import FIRST_BEAT
from apilado.core.parameters import Model, choice, number, numbers, send_number, switch, tagged_union, text
from apilado.core.parts import Part
from apilado.core.units import ms_to_samples

MOST_HITS = 1024
LAST_HIT_BEATS = 1024.0
RESAMPLING_MARGIN = 4096


def ordered_hits(hits: tuple[float, ...]) -> tuple[float, ...]:
    """Hits ascending, each once.

    Raises:
        ValueError: a hit lies before 0 or after 1024 beats.
    """
    for hit in hits:
        if not 0.0 <= hit <= LAST_HIT_BEATS:
            raise ValueError(f"a hit lies from 0 to 1024 beats, not at {hit}")
    return tuple(sorted(set(hits)))


class KickSound(Model):
    """What one hit sounds like. Subclasses declare a `kind`, parameters, and override `render`."""

    label: ClassVar[str]

    def render(self, rate_hz: int, seed: int, load: AssetLoader) -> Audio:
        """One hit from its first sample, shape (1 or 2, frames)."""
        raise NotImplementedError

    def length_seconds(self) -> float:
        """How long one hit lasts at most."""
        raise NotImplementedError

    def asset_hashes(self) -> tuple[str, ...]:
        """The SHA-256 of every asset it needs."""
        return ()


class SynthKick(KickSound):
    """A sine that falls in pitch, with a click and a drive."""

    label: ClassVar[str] = "Synthesised"

    kind: Literal["synth"] = "synth"
    start_hz: Annotated[float, number(low=40.0, high=2000.0, step=1.0, scale="log", unit="Hz", label="From")] = 260.0
    end_hz: Annotated[float, number(low=20.0, high=200.0, step=0.1, scale="log", unit="Hz", label="To")] = 52.0
    sweep_ms: Annotated[float, number(low=1.0, high=1000.0, step=1.0, scale="log", unit="ms", label="Sweep")] = 120.0
    decay_ms: Annotated[float, number(low=20.0, high=3000.0, step=1.0, scale="log", unit="ms", label="Decay")] = 320.0
    click: Annotated[float, number(low=0.0, high=1.0, label="Click")] = 0.3
    drive_db: Annotated[float, number(low=0.0, high=36.0, step=0.1, unit="dB", label="Drive")] = 6.0

    def length_seconds(self) -> float:
        return self.decay_ms / 1000.0

    def render(self, rate_hz: int, seed: int, load: AssetLoader) -> Audio:
        return kick_sound(
            start_hz=self.start_hz,
            end_hz=self.end_hz,
            sweep_ms=self.sweep_ms,
            decay_ms=self.decay_ms,
            click=self.click,
            drive_db=self.drive_db,
            rate_hz=rate_hz,
            seed=seed,
        )


class SampleKick(KickSound):
    """A file, brought to peak 1."""

    label: ClassVar[str] = "Sample"

    kind: Literal["sample"] = "sample"
    asset: str = Field(pattern=SHA256_PATTERN, description="SHA-256 of the audio file")
    file_name: Annotated[str, text(label="File", longest=200)] = "kick.wav"
    start_ms: Annotated[
        float,
        number(
            low=0.0,
            high=60000.0,
            step=0.1,
            unit="ms",
            over="file",
            label="Start",
            help="Left out at the file's beginning",
        ),
    ] = 0.0
    length_ms: Annotated[float, number(low=10.0, high=10000.0, step=1.0, scale="log", unit="ms", label="Length")] = (
        600.0
    )
    fade_ms: Annotated[float, number(low=1.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Fade-out")] = 20.0
    pitch_st: Annotated[
        float, number(low=-24.0, high=24.0, step=0.1, unit="st", label="Pitch", help="By playing it faster or slower")
    ] = 0.0

    def asset_hashes(self) -> tuple[str, ...]:
        return (self.asset,)

    def length_seconds(self) -> float:
        return self.length_ms / 1000.0

    def render(self, rate_hz: int, seed: int, load: AssetLoader) -> Audio:
        start, length = (ms_to_samples(ms, rate_hz) for ms in (self.start_ms, self.length_ms))
        # Of a long file only what will be heard is played faster or slower.
        needed = math.ceil(length * 2.0 ** (self.pitch_st / 12.0)) + RESAMPLING_MARGIN
        part = load(self.asset, rate_hz)[:, start : start + needed]
        if part.shape[1] == 0:  # it starts behind its end: silence, which can be heard to be wrong and be put right
            return np.zeros((1, length), np.float32)
        audio = repitched(part, self.pitch_st)[:, :length].copy()
        fade = min(audio.shape[1], ms_to_samples(self.fade_ms, rate_hz))
        if fade:
            audio[:, -fade:] *= rising(fade)[::-1].astype(np.float32)
        peak = peak_of(audio)
        return audio / np.float32(peak) if peak > 0.0 else audio


KICK_SOUNDS: tuple[type[KickSound], ...] = (SynthKick, SampleKick)
if TYPE_CHECKING:
    AnyKickSound = KickSound
else:
    AnyKickSound = tagged_union(KICK_SOUNDS)


class Drum(Model):
    """A sound, what is done to it, and where it hits."""

    sound: AnyKickSound = SynthKick()
    attack_db: Annotated[float, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Attack")] = 0.0
    sustain_db: Annotated[float, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Sustain")] = 0.0
    eq: Points = Points()
    clip_db: Annotated[
        float,
        number(low=0.0, high=24.0, step=0.1, unit="dB", label="Soft clip", help="Drive into a soft clip; 0 is off"),
    ] = 0.0
    level_db: Annotated[float, number(low=-60.0, high=6.0, step=0.1, unit="dB", label="Level", moves=True)] = -3.0
    mute: Annotated[bool, switch(label="Mute")] = False
    polarity: Annotated[Literal["normal", "inverted"], choice(label="Polarity")] = "normal"
    offset_ms: Annotated[
        float, number(low=-20.0, high=20.0, step=0.01, unit="ms", label="Offset", help="Later or earlier than its hits")
    ] = 0.0
    send: Annotated[float, send_number("")] = 0.0
    hits: Annotated[
        tuple[float, ...],
        numbers(
            low=0.0,
            high=LAST_HIT_BEATS,
            most=MOST_HITS,
            first=FIRST_BEAT,
            label="Hits",
            help="The beats that it plays on, counted from 1, with commas; in the document, beats from 0",
        ),
    ] = ()

    _ordered = field_validator("hits")(ordered_hits)


class Kick(Drum):
    """The kick."""


class Trigger(Part, Drum):
    """A further drum: muted, it is a silent list of hits for ducks and keyed points to follow."""

    name: Annotated[str, text(label="Name", longest=40)] = "Trigger"
    mute: Annotated[bool, switch(label="Mute", help="A silent trigger")] = True

    @field_validator("id")
    @classmethod
    def _not_the_kick(cls, value: str) -> str:
        if value == "kick":
            raise ValueError("'kick' is the kick; give the trigger another id")
        return value
