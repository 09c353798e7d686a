"""The kick, its sounds, and further triggers."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.envelopes import rising
from apilado.core.dsp.kicks import kick_sound
from apilado.core.parameters import Model, choice, number, switch, tagged_union, text
from apilado.core.sources.base import AssetLoader
from apilado.core.sources.take import SHA256_PATTERN

MOST_HITS = 1024


def ordered_hits(hits: tuple[float, ...]) -> tuple[float, ...]:
    """Hits ascending, each once.

    Raises:
        ValueError: a hit lies before 0 or after 1024 beats.
    """
    for hit in hits:
        if not 0.0 <= hit <= 1024.0:
            raise ValueError(f"a hit lies from 0 to 1024 beats, not at {hit}")
    return tuple(sorted(set(hits)))


class KickSound(Model):
    """What one hit sounds like. Subclasses declare a `kind`, parameters, and override `render`."""

    label: ClassVar[str]

    def render(self, rate_hz: int, seed: int, load: AssetLoader) -> Audio:
        """One hit from its first sample, shape (1 or 2, frames)."""
        raise NotImplementedError

    def asset_hashes(self) -> tuple[str, ...]:
        """The SHA-256 of every asset it needs."""
        return ()


class SynthKick(KickSound):
    """A sine that falls in pitch, with a click and a drive."""

    label: ClassVar[str] = "Synthesised"

    kind: Literal["synth"] = "synth"
    start_hz: float = number(260.0, low=40.0, high=2000.0, step=1.0, scale="log", unit="Hz", label="From")
    end_hz: float = number(52.0, low=20.0, high=200.0, step=0.1, scale="log", unit="Hz", label="To")
    sweep_ms: float = number(120.0, low=1.0, high=1000.0, step=1.0, scale="log", unit="ms", label="Sweep")
    decay_ms: float = number(320.0, low=20.0, high=3000.0, step=1.0, scale="log", unit="ms", label="Decay")
    click: float = number(0.3, low=0.0, high=1.0, label="Click")
    drive_db: float = number(6.0, low=0.0, high=36.0, step=0.1, unit="dB", label="Drive")

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
    file_name: str = text("kick.wav", label="File", longest=200)
    length_ms: float = number(
        600.0, low=10.0, high=10000.0, step=1.0, scale="log", unit="ms", label="Length", help="Faded out at its end"
    )

    def asset_hashes(self) -> tuple[str, ...]:
        return (self.asset,)

    def render(self, rate_hz: int, seed: int, load: AssetLoader) -> Audio:
        audio = load(self.asset, rate_hz)[:, : round(self.length_ms * rate_hz / 1000.0)].copy()
        fade = min(audio.shape[1], round(0.02 * rate_hz))
        if fade:
            audio[:, -fade:] *= rising(fade)[::-1].astype(np.float32)
        peak = float(np.max(np.abs(audio), initial=0.0))
        return audio / np.float32(peak) if peak > 0.0 else audio


KICK_SOUNDS: tuple[type[KickSound], ...] = (SynthKick, SampleKick)
if TYPE_CHECKING:
    AnyKickSound = KickSound
else:
    AnyKickSound = tagged_union(KICK_SOUNDS)


class Kick(Model):
    """The kick that the stack makes room for."""

    sound: AnyKickSound = SynthKick()
    level_db: float = number(-3.0, low=-60.0, high=6.0, step=0.1, unit="dB", label="Level")
    mute: bool = switch(False, label="Mute")
    polarity: Literal["normal", "inverted"] = choice("normal", label="Polarity")
    offset_ms: float = number(
        0.0, low=-20.0, high=20.0, step=0.01, unit="ms", label="Offset", help="Later or earlier than its hits"
    )
    hits: tuple[float, ...] = Field(default=(), max_length=MOST_HITS, description="Beats, ascending")

    _ordered = field_validator("hits")(ordered_hits)


class Trigger(Model):
    """A further list of hits for a duck to follow: the kick's sound, unheard."""

    id: str = Field(min_length=1, max_length=40, pattern=r"^[a-z0-9-]+$")
    name: str = text("Silent trigger", label="Name")
    hits: tuple[float, ...] = Field(default=(), max_length=MOST_HITS, description="Beats, ascending")

    _ordered = field_validator("hits")(ordered_hits)
