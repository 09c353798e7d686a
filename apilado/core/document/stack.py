"""The stack: everything audible, in one document."""

from __future__ import annotations

from typing import Literal, get_args

from pydantic import Field, model_validator

from apilado.core.document.equaliser import MOST_POINTS, AnyPoint
from apilado.core.document.kick import Kick, Trigger
from apilado.core.document.layer import MOST_NOTES, Layer
from apilado.core.dsp.crossovers import Border, border
from apilado.core.dsp.dynamics import Detector
from apilado.core.notes import Note
from apilado.core.parameters import Model, choice, integer, number, switch, text
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.treatments.registry import AnyTreatment

FORMAT = "apilado-stack"
VERSION = 1
SampleRate = Literal[44100, 48000, 96000]
SAMPLE_RATES: tuple[int, ...] = get_args(SampleRate)
CLOSEST_BORDERS = 2.0 ** (1.0 / 3.0)
LONGEST_SECONDS = 180.0

KEYS = tuple(
    f"{root} {mode}"
    for mode in ("minor", "major")
    for root in ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
)


class Crossover(Model):
    """A border between two bands."""

    frequency_hz: float = number(120.0, low=30.0, high=16000.0, step=0.1, scale="log", unit="Hz", label="Frequency")
    slope_db_per_octave: Literal[12, 24, 48] = choice(24, label="Slope", unit="dB/oct")
    kind: Literal["minimum-phase", "linear-phase"] = choice(
        "minimum-phase", label="Kind", help="Linear phase turns no phase, and rings before as well as after"
    )
    overlap_octaves: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="oct", label="Overlap", help="How far the two edges are apart"
    )


def borders_of(crossovers: tuple[Crossover, ...], rate_hz: int) -> tuple[Border, ...]:
    """The filters of the crossovers at a rate."""
    return tuple(
        border(c.frequency_hz, c.slope_db_per_octave, rate_hz, kind=c.kind, overlap_octaves=c.overlap_octaves)
        for c in crossovers
    )


class Limiter(Model):
    """The last stage of the bus."""

    on: bool = switch(True, label="Limiter")
    ceiling_db: float = number(-1.0, low=-24.0, high=0.0, step=0.1, unit="dB", label="Ceiling")
    release_ms: float = number(80.0, low=5.0, high=1000.0, step=1.0, scale="log", unit="ms", label="Release")


class Bus(Model):
    """What all layers go through together."""

    eq: tuple[AnyPoint, ...] = Field(default=(), max_length=MOST_POINTS)
    treatments: tuple[AnyTreatment, ...] = Field(default=(), max_length=16)
    level_db: float = number(0.0, low=-60.0, high=12.0, step=0.1, unit="dB", label="Level")
    mono_below_hz: float = number(
        0.0, low=0.0, high=500.0, step=1.0, unit="Hz", label="Mono below", help="Everything below is mono; 0 is off"
    )
    limiter: Limiter = Limiter()


class Duck(Model):
    """A compressor keyed from the kick's sound as it is before its level; each layer takes its share."""

    on: bool = switch(True, label="On")
    trigger: str = Field(default="kick", max_length=40, description="'kick' or the id of a trigger")
    threshold_db: float = number(-24.0, low=-60.0, high=0.0, step=0.1, unit="dB", label="Threshold")
    ratio: float = number(4.0, low=1.0, high=50.0, step=0.1, scale="log", unit=":1", label="Ratio")
    knee_db: float = number(6.0, low=0.0, high=24.0, step=0.1, unit="dB", label="Knee")
    attack_ms: float = number(0.5, low=0.0, high=100.0, step=0.1, unit="ms", label="Attack")
    hold_ms: float = number(10.0, low=0.0, high=500.0, step=1.0, unit="ms", label="Hold")
    release_ms: float = number(60.0, low=5.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Release")
    range_db: float = number(12.0, low=0.0, high=60.0, step=0.1, unit="dB", label="Range")
    lookahead_ms: float = number(1.0, low=0.0, high=20.0, step=0.1, unit="ms", label="Look-ahead")

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
        )


class LimitOverride(Model):
    """A sounding's limits, changed for this stack with a reason."""

    look: float | None = None
    fault: float | None = None
    reason: str = Field(min_length=1, max_length=200)


class Stack(Model):
    """A whole stack. Validation says where in it something is wrong."""

    format: Literal["apilado-stack"] = "apilado-stack"
    version: Literal[1] = 1
    name: str = text("New stack", label="Name")
    tempo_bpm: float = number(126.0, low=40.0, high=240.0, step=0.1, unit="bpm", label="Tempo")
    beats_per_bar: int = integer(4, low=1, high=16, label="Beats per bar")
    bars: int = integer(4, low=1, high=64, label="Bars")
    key: str = Field(default="F minor", json_schema_extra={"enum": list(KEYS)})
    sample_rate: SampleRate = choice(48000, label="Sample rate", unit="Hz")
    seed: int = integer(1, low=0, high=2**31 - 1, label="Seed")
    pattern: tuple[Note, ...] = Field(default=(), max_length=MOST_NOTES)
    kick: Kick = Kick()
    triggers: tuple[Trigger, ...] = Field(default=(), max_length=8)
    crossovers: tuple[Crossover, ...] = Field(default=(), max_length=7)
    layers: tuple[Layer, ...] = Field(default=(), max_length=12)
    bus: Bus = Bus()
    duck: Duck = Duck()
    limits: dict[str, LimitOverride] = Field(default={}, max_length=64)

    @property
    def beats(self) -> float:
        """Length of the loop."""
        return float(self.bars * self.beats_per_bar)

    def layer(self, layer_id: str) -> Layer | None:
        """The layer of that id, or None."""
        return next((layer for layer in self.layers if layer.id == layer_id), None)

    def audible_layers(self) -> tuple[Layer, ...]:
        """The layers that are heard: the soloed ones if any, less the muted ones."""
        soloed = any(layer.solo for layer in self.layers)
        return tuple(layer for layer in self.layers if not layer.mute and (layer.solo or not soloed))

    def trigger_hits(self) -> tuple[float, ...]:
        """The hits that the duck follows."""
        if self.duck.trigger == "kick":
            return self.kick.hits
        return next(trigger.hits for trigger in self.triggers if trigger.id == self.duck.trigger)

    def asset_hashes(self) -> tuple[str, ...]:
        """The SHA-256 of every asset the stack needs, each once, in order of appearance."""
        needed = [sha for layer in self.layers for sha in layer.source.asset_hashes()]
        return tuple(dict.fromkeys([*needed, *self.kick.sound.asset_hashes()]))

    @model_validator(mode="after")
    def _whole(self) -> Stack:
        if self.key not in KEYS:
            raise ValueError(f"key: '{self.key}' is none of C minor … B major")
        seconds = self.beats * 60.0 / self.tempo_bpm
        if seconds > LONGEST_SECONDS:
            raise ValueError(
                f"bars: {self.bars} bars at {self.tempo_bpm:g} bpm last {seconds:.0f} s; "
                f"the most is {LONGEST_SECONDS:.0f} s"
            )
        for index, (lower, upper) in enumerate(zip(self.crossovers, self.crossovers[1:], strict=False)):
            if upper.frequency_hz < lower.frequency_hz * CLOSEST_BORDERS * (1.0 - 1e-9):
                raise ValueError(
                    f"crossovers/{index + 1}: {upper.frequency_hz:g} Hz must lie at least a third of an octave above "
                    f"crossover {index} at {lower.frequency_hz:g} Hz"
                )
        self._check_layers()
        if self.duck.trigger != "kick" and self.duck.trigger not in [t.id for t in self.triggers]:
            raise ValueError(f"duck/trigger: there is no trigger '{self.duck.trigger}'")
        return self

    def _check_layers(self) -> None:
        ids = [layer.id for layer in self.layers]
        for index, layer in enumerate(self.layers):
            where = f"layers/{layer.id}"
            if layer.id in ids[:index]:
                raise ValueError(f"{where}: the id appears twice")
            if layer.span.last > len(self.crossovers):
                raise ValueError(
                    f"{where}/span: band {layer.span.last} does not exist; {len(self.crossovers)} crossovers make "
                    f"bands 0 to {len(self.crossovers)}"
                )
            seen = [layer.id]
            source = layer.source
            while isinstance(source, LayerSound):
                if source.layer in seen:
                    raise ValueError(f"{where}/source: takes its own sound, by way of {' → '.join(seen)}")
                parent = self.layer(source.layer)
                if parent is None:
                    raise ValueError(f"{where}/source: there is no layer '{source.layer}'")
                seen.append(parent.id)
                source = parent.source
