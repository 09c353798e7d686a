"""From a document to its stages."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

from apilado.core.clock import Clock
from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import Phase, Point, eq_sections, still_and_moving
from apilado.core.document.kick import Drum
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.notes import Note
from apilado.core.render import steps
from apilado.core.render.stage import Stage, stage
from apilado.core.sources.base import AssetLoader, Score
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.treatments.base import Treatment

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
    reductions: dict[str, Stage]
    """Gain reduction in dB of each ducker that is on, shape (frames,), by its id."""
    keys: dict[str, Stage]
    """The sound that each of those duckers follows, before its level."""
    bus_input: Stage
    bass: Stage
    drums: dict[str, Stage]
    """The kick and the triggers as they sound, muted ones too, by what a ducker names them."""
    hits: dict[str, Stage]
    """One hit of each drum, shaped, from its first sample."""
    bus_treated: tuple[tuple[int, Stage], ...]
    """(index, what goes in) of each treatment of the bus that is on."""
    shared_treated: tuple[tuple[int, Stage], ...]
    limited: dict[str, Stage]
    """What goes into the limiters of 'bus' and 'shared', where they are on."""
    output: Stage

    @property
    def kick(self) -> Stage:
        """The kick as it sounds, muted or not."""
        return self.drums["kick"]


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


def listened_point(stack: Stack) -> tuple[str, Point] | None:
    """(owner, point) of the EQ point that is soloed, if any: then it is all that is heard."""
    found = [(owner, point) for owner, points in stack.equalisers().items() for point in points if point.solo]
    return found[0] if found else None


class _Builder:
    def __init__(self, stack: Stack, clock: Clock, load: AssetLoader) -> None:
        self.stack, self.clock, self.load = stack, clock, load
        self.listened = listened_point(stack)
        self._shaped: dict[str, Stage] = {}
        self._keys: dict[tuple[str, tuple[float, ...]], Stage] = {}
        self.hits = {name: self._hit(name) for name in stack.drum_names()}

    def _hit(self, name: str) -> Stage:
        """One hit of a drum, with all that is done to it."""
        drum, clock = self.stack.drum(name), _hit_clock(self.clock)
        hit = stage(steps.hit_sound, sound=drum.sound, seed=self.stack.seed, clock=clock, context={"load": self.load})
        owner = self.stack.drum_owner(name)
        if self.listened is not None and self.listened[0] == owner:
            return stage(steps.listen_to, hit, point=self.listened[1], clock=clock)
        sections = eq_sections(self.stack.points_of(owner), clock.rate_hz)
        if not (drum.attack_db or drum.sustain_db or len(sections) or drum.clip_db):
            return hit
        return stage(
            steps.shape_hit,
            hit,
            attack_db=drum.attack_db,
            sustain_db=drum.sustain_db,
            sections=tuple(tuple(float(v) for v in section) for section in sections),
            clip_db=drum.clip_db,
            clock=clock,
        )

    def key(self, name: str, hits: tuple[float, ...] | None = None) -> Stage:
        """A drum's hits (or some of them) before its level."""
        hits = self.stack.drum(name).hits if hits is None else hits
        if (name, hits) not in self._keys:
            self._keys[name, hits] = stage(steps.hits_track, self.hits[name], hits=hits, clock=self.clock)
        return self._keys[name, hits]

    def drum(self, name: str) -> Stage:
        """A drum as it sounds."""
        drum: Drum = self.stack.drum(name)
        return stage(
            steps.set_drum,
            self.key(name),
            level_db=drum.level_db,
            inverted=drum.polarity == "inverted",
            offset_ms=drum.offset_ms,
            clock=self.clock,
        )

    def equalised(self, sound: Stage, owner: str, phase: Phase = "minimum-phase") -> Stage:
        """A part through its EQ: the points that stand still, then those that move."""
        if self.listened is not None and self.listened[0] == owner:
            return stage(steps.listen_to, sound, point=self.listened[1], clock=self.clock)
        still, moving = still_and_moving(self.stack.points_of(owner))
        if still:
            linear = phase == "linear-phase"
            sound = stage(steps.equalise, sound, points=still, linear_phase=linear, clock=self.clock)
        for point in moving:
            sound = stage(steps.move_point, sound, self.key(point.trigger), point=point, clock=self.clock)
        return sound

    def treated(self, sound: Stage, treatments: Sequence[Treatment]) -> tuple[Stage, tuple[tuple[int, Stage], ...]]:
        """A sound through treatments; and what goes into each that is on."""
        inputs = []
        for index, treatment in enumerate(treatments):
            if treatment.on:
                inputs.append((index, sound))
                sound = stage(steps.treat, sound, treatment=treatment, clock=self.clock)
        return sound, tuple(inputs)

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
        sound, _ = self.treated(sound, layer.treatments)
        if layer.split == "after":
            sound = self.split(sound, layer)
        sound = self.equalised(sound, f"layers/{layer.id}", layer.eq_phase)
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


def _ducked(
    placed: Stage, layer: Layer, duckers: Sequence[Ducker], reductions: dict[str, Stage], clock: Clock
) -> Stage:
    """A layer turned down by all duckers that reach it: whole first, then band by band."""
    reaching = [d for d in duckers if d.id in reductions and d.amount(layer.id) > 0.0]
    whole = [d for d in reaching if d.band_hz() is None]
    sound = placed
    if whole:
        amounts = tuple(d.amount(layer.id) for d in whole)
        sound = stage(steps.duck_layer, sound, *[reductions[d.id] for d in whole], amounts=amounts)
    for ducker in reaching:
        band = ducker.band_hz()
        if band is not None:
            low, high = band
            share = ducker.amount(layer.id)
            reduction = reductions[ducker.id]
            sound = stage(steps.duck_band, sound, reduction, low_hz=low, high_hz=high, amount=share, clock=clock)
    return sound


def build(stack: Stack, clock: Clock, load: AssetLoader) -> Graph:
    """The stages that render the stack on a clock; nothing is computed yet."""
    builder = _Builder(stack, clock, load)
    drums = {name: builder.drum(name) for name in stack.drum_names()}
    keys = {d.id: builder.key(d.trigger, stack.hits_of(d)) for d in stack.duckers if d.on}
    reductions = {
        d.id: stage(steps.duck_reduction, keys[d.id], shape=d.shape, hits=stack.hits_of(d), clock=clock)
        for d in stack.duckers
        if d.on
    }
    placed = {layer.id: builder.placed(layer) for layer in stack.layers}
    layers = {layer.id: _ducked(placed[layer.id], layer, stack.duckers, reductions, clock) for layer in stack.layers}
    audible = tuple(layer.id for layer in stack.audible_layers())
    heard_drums = [name for name in drums if not stack.drum(name).mute]
    listened = builder.listened
    if listened is not None:
        # One point alone is listened to: nothing else is heard.
        owner = listened[0].split("/")[-1]
        kind = listened[0].split("/")[0]
        audible = (owner,) if kind == "layers" else audible if kind in ("bus", "shared") else ()
        heard_drums = [owner] if owner in drums and kind in ("kick", "triggers") else []
    limiters: dict[str, Stage] = {}
    bus_input = stage(steps.mix, *[layers[name] for name in audible], frames=clock.frames)
    bass = builder.equalised(bus_input, "bus", stack.bus.eq_phase)
    bass, bus_treated = builder.treated(bass, stack.bus.treatments)
    if stack.bus.mono_below_hz > 0.0:
        bass = stage(steps.mono_part, bass, below_hz=stack.bus.mono_below_hz, clock=clock)
    bass = stage(steps.scale, bass, level_db=stack.bus.level_db)
    if stack.bus.limiter.on:
        limiters["bus"] = bass
        bass = stage(steps.limit, bass, limiter=stack.bus.limiter, clock=clock)
    heard = [bass, *[drums[name] for name in heard_drums]]
    shared_treated: tuple[tuple[int, Stage], ...] = ()
    if stack.shared.on:
        both = heard[: 2 if "kick" in heard_drums else 1]
        whole = builder.equalised(stage(steps.mix, *both, frames=clock.frames), "shared", stack.shared.eq_phase)
        whole, shared_treated = builder.treated(whole, stack.shared.treatments)
        whole = stage(steps.scale, whole, level_db=stack.shared.level_db)
        if stack.shared.limiter.on:
            limiters["shared"] = whole
            whole = stage(steps.limit, whole, limiter=stack.shared.limiter, clock=clock)
        heard = [whole, *heard[len(both) :]]
    return Graph(
        clock=clock,
        sources={layer.id: builder.source(layer) for layer in stack.layers},
        placed=placed,
        layers=layers,
        audible=audible,
        reductions=reductions,
        keys=keys,
        bus_input=bus_input,
        bass=bass,
        drums=drums,
        hits=builder.hits,
        bus_treated=bus_treated,
        shared_treated=shared_treated,
        limited=limiters,
        output=stage(steps.mix, *heard, frames=clock.frames),
    )


def _hit_clock(clock: Clock) -> Clock:
    """One hit depends on the rate alone: a change of tempo does not make it anew."""
    return Clock(tempo_bpm=60.0, beats=1.0, rate_hz=clock.rate_hz, looped=False)
