"""A layer: a source, the run of bands it owns, and what is done to it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator

from apilado.core.document.frozen import MOST_RATES, FrozenSound
from apilado.core.document.path import MOST_STEPS, AnyStep, Equaliser, Split, layer_path
from apilado.core.notes import Note
from apilado.core.parameters import Model, choice, integer, number, parts, send_number, switch, text
from apilado.core.parts import Part
from apilado.core.sources.registry import AnySource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Voice

TINTS = ("ochre", "slate", "verdigris", "haematite", "lapis", "umber", "malachite", "amethyst")
Tint = Literal["ochre", "slate", "verdigris", "haematite", "lapis", "umber", "malachite", "amethyst"]
MOST_NOTES = 4096
NoteLevel = Annotated[float, Field(ge=-24.0, le=24.0)]


class Span(Model):
    """The run of bands a layer owns, counted from 0 at the bottom."""

    first: int = Field(default=0, ge=0, le=16)
    last: int = Field(default=0, ge=0, le=16)

    @model_validator(mode="after")
    def _ascending(self) -> Span:
        if self.last < self.first:
            raise ValueError(f"a span runs upwards; this runs from band {self.first} to {self.last}")
        return self


class Layer(Part):
    """One layer of the stack."""

    name: Annotated[str, text(label="Name", longest=40)] = "layer"
    tint: Annotated[Tint, choice(label="Tint")] = "ochre"
    source: AnySource = Field(default_factory=ToneSource)
    span: Span = Span()
    path: tuple[AnyStep, ...] = parts(
        "step", least=1, most=MOST_STEPS, ordered=True, begin=lambda: layer_path(Equaliser())
    )
    level_db: Annotated[float, number(low=-60.0, high=12.0, step=0.1, unit="dB", label="Level", moves=True)] = 0.0
    mute: Annotated[bool, switch(label="Mute")] = False
    width: Annotated[float, number(low=0.0, high=2.0, label="Width", moves=True)] = 1.0
    pan: Annotated[float, number(low=-1.0, high=1.0, label="Pan", moves=True)] = 0.0
    mono: Annotated[bool, switch(label="Mono", help="Both channels the same; pan does not apply")] = False
    mono_below_hz: Annotated[
        float,
        number(
            low=0.0,
            high=2000.0,
            step=1.0,
            unit="Hz",
            label="Mono below",
            help="The layer is mono below; 0 is off",
            moves=True,
        ),
    ] = 0.0
    polarity: Annotated[Literal["normal", "inverted"], choice(label="Polarity")] = "normal"
    delay_ms: Annotated[float, number(low=0.0, high=50.0, step=0.01, unit="ms", label="Delay", moves=True)] = 0.0
    send: Annotated[float, send_number("Behind its duck; what moves it throws single notes")] = 0.0
    transpose: Annotated[int, integer(low=-48, high=48, label="Transpose", unit="st")] = 0
    note_levels_db: dict[int, NoteLevel] = Field(
        default={}, max_length=128, description="Level correction by MIDI pitch of the pattern, in dB"
    )
    voice: Voice | None = Field(default=None, description="Its own voice; null plays with the stack's")
    notes: tuple[Note, ...] | None = Field(
        default=None, max_length=MOST_NOTES, description="Its own pattern; null plays the stack's"
    )
    frozen: tuple[FrozenSound, ...] = Field(
        default=(), max_length=MOST_RATES, description="Its source and path as audio, by rate; empty: it is rendered"
    )

    @field_validator("path")
    @classmethod
    def _one_split(cls, path: tuple[AnyStep, ...]) -> tuple[AnyStep, ...]:
        splits = sum(isinstance(step, Split) for step in path)
        if splits != 1:
            raise ValueError(f"a layer is cut to its band once, not {splits} times: one step is 'split'")
        return path

    @field_validator("note_levels_db")
    @classmethod
    def _pitches(cls, levels: dict[int, float]) -> dict[int, float]:
        for pitch in levels:
            if not 0 <= pitch <= 127:
                raise ValueError(f"a note level belongs to a MIDI pitch from 0 to 127, not {pitch}")
        return dict(sorted(levels.items()))
