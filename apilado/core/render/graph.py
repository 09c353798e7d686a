"""From a document to its stages."""

from __future__ import annotations

from dataclasses import dataclass
from typing import cast

from apilado.core.clock import Clock
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.notes import Note
from apilado.core.render import steps
from apilado.core.render.stage import Stage, stage
from apilado.core.sources.base import AssetLoader, Score
from apilado.core.sources.layer_sound import LayerSound

SHORTEST_TAIL_SECONDS = 1.0


@dataclass(frozen=True)
class Graph:
    """The stages of a whole render; every audio result has shape (2, clock.frames)."""

    clock: Clock
    sources: dict[str, Stage]
    """A layer's raw sound (1 or 2 channels), by its id; all layers."""
    placed: dict[str, Stage]
    """A layer just before the duck, by its id; all layers."""
    layers: dict[str, Stage]
    """A layer after the duck, by its id; all layers, heard or not."""
    audible: tuple[str, ...]
    """The ids of the layers that are heard."""
    reduction: Stage | None
    """Gain reduction of the duck in dB, shape (frames,); None when it is off."""
    bus_input: Stage
    bass: Stage
    kick: Stage
    trigger: Stage
    output: Stage


def clock_of(stack: Stack, *, looped: bool, rate_hz: int | None = None) -> Clock:
    """The time base of a render of the stack, at its own rate unless another is given."""
    tails = [layer.source.tail_seconds() for layer in stack.layers]
    return Clock(
        tempo_bpm=stack.tempo_bpm,
        beats=stack.beats,
        rate_hz=rate_hz or stack.sample_rate,
        looped=looped,
        tail_seconds=0.0 if looped else max([0.0, *tails]) + SHORTEST_TAIL_SECONDS,
    )


def layer_notes(stack: Stack, layer: Layer) -> tuple[Note, ...]:
    """The notes a layer plays: its own or the stack's."""
    return stack.pattern if layer.notes is None else layer.notes


def source_root(stack: Stack, layer: Layer) -> Layer:
    """The layer whose raw source this layer sounds with; itself unless it takes another's source untreated."""
    while isinstance(layer.source, LayerSound) and layer.source.tap == "source":
        layer = cast(Layer, stack.layer(layer.source.layer))
    return layer


class _Builder:
    def __init__(self, stack: Stack, clock: Clock, load: AssetLoader) -> None:
        self.stack, self.clock, self.load = stack, clock, load
        self._shaped: dict[str, Stage] = {}

    def source(self, layer: Layer) -> Stage:
        if isinstance(layer.source, LayerSound):
            parent = cast(Layer, self.stack.layer(layer.source.layer))
            return self.source(parent) if layer.source.tap == "source" else self.shaped(parent)
        plays = layer.source.plays_notes
        score = Score(
            notes=layer_notes(self.stack, layer) if plays else (),
            transpose=layer.transpose if plays else 0,
            seed=self.stack.seed,
        )
        context = {"load": self.load}
        return stage(steps.play_source, source=layer.source, score=score, clock=self.clock, context=context)

    def shaped(self, layer: Layer) -> Stage:
        """Source, split, treatments, EQ."""
        if layer.id in self._shaped:
            return self._shaped[layer.id]
        sound = self.source(layer)
        if layer.split == "before":
            sound = self.split(sound, layer)
        for treatment in layer.treatments:
            if treatment.on:
                sound = stage(steps.treat, sound, treatment=treatment, clock=self.clock)
        if layer.split == "after":
            sound = self.split(sound, layer)
        if any(point.on for point in layer.eq):
            sound = stage(steps.equalise, sound, points=layer.eq, clock=self.clock)
        self._shaped[layer.id] = sound
        return sound

    def split(self, sound: Stage, layer: Layer) -> Stage:
        if not self.stack.crossovers:
            return sound
        return stage(
            steps.split_bands,
            sound,
            crossovers=self.stack.crossovers,
            first=layer.span.first,
            last=layer.span.last,
            clock=self.clock,
        )

    def placed(self, layer: Layer) -> Stage:
        """The layer on its place: width, polarity, delay, level."""
        levels = tuple(layer.note_levels_db.items())
        sound = self.shaped(layer)
        if layer.mono_below_hz > 0.0 and not layer.mono:
            sound = stage(steps.mono_part, sound, below_hz=layer.mono_below_hz, clock=self.clock)
        return stage(
            steps.place,
            sound,
            width=layer.width,
            mono=layer.mono,
            pan=layer.pan,
            level_db=layer.level_db,
            inverted=layer.polarity == "inverted",
            delay_ms=layer.delay_ms,
            note_levels=levels,
            notes=layer_notes(self.stack, layer) if levels else (),
            clock=self.clock,
        )


def _ducked(placed: Stage, layer: Layer, reduction: Stage | None) -> Stage:
    if reduction is None or layer.duck_amount == 0.0:
        return placed
    return stage(steps.duck_layer, placed, reduction, amount=layer.duck_amount)


def build(stack: Stack, clock: Clock, load: AssetLoader) -> Graph:
    """The stages that render the stack on a clock; nothing is computed yet."""
    builder = _Builder(stack, clock, load)
    context = {"load": load}
    hit = stage(steps.hit_sound, sound=stack.kick.sound, seed=stack.seed, clock=_hit_clock(clock), context=context)
    kick_track = stage(steps.hits_track, hit, hits=stack.kick.hits, clock=clock)
    trigger = stage(steps.hits_track, hit, hits=stack.trigger_hits(), clock=clock)
    kick = stage(
        steps.set_kick,
        kick_track,
        level_db=stack.kick.level_db,
        inverted=stack.kick.polarity == "inverted",
        offset_ms=stack.kick.offset_ms,
        clock=clock,
    )
    reduction = stage(steps.duck_reduction, trigger, duck=stack.duck, clock=clock) if stack.duck.on else None
    placed = {layer.id: builder.placed(layer) for layer in stack.layers}
    layers = {layer.id: _ducked(placed[layer.id], layer, reduction) for layer in stack.layers}
    audible = tuple(layer.id for layer in stack.audible_layers())
    bus_input = stage(steps.mix, *[layers[name] for name in audible], frames=clock.frames)
    bass = bus_input
    if any(point.on for point in stack.bus.eq):
        bass = stage(steps.equalise, bass, points=stack.bus.eq, clock=clock)
    for treatment in stack.bus.treatments:
        if treatment.on:
            bass = stage(steps.treat, bass, treatment=treatment, clock=clock)
    if stack.bus.mono_below_hz > 0.0:
        bass = stage(steps.mono_part, bass, below_hz=stack.bus.mono_below_hz, clock=clock)
    bass = stage(steps.scale, bass, level_db=stack.bus.level_db)
    if stack.bus.limiter.on:
        bass = stage(steps.limit, bass, limiter=stack.bus.limiter, clock=clock)
    heard = (bass,) if stack.kick.mute else (bass, kick)
    return Graph(
        clock=clock,
        sources={layer.id: builder.source(layer) for layer in stack.layers},
        placed=placed,
        layers=layers,
        audible=audible,
        reduction=reduction,
        bus_input=bus_input,
        bass=bass,
        kick=kick,
        trigger=trigger,
        output=stage(steps.mix, *heard, frames=clock.frames),
    )


def _hit_clock(clock: Clock) -> Clock:
    """One hit depends on the rate alone: a change of tempo does not make it anew."""
    return Clock(tempo_bpm=60.0, beats=1.0, rate_hz=clock.rate_hz, looped=False)
