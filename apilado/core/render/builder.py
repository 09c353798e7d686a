"""What makes the stages of a stack: sources, paths, drums, ducks, buses."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

from apilado.core.clock import Clock
from apilado.core.document.addresses import find, joined, within
from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import eq_sections, still_and_moving
from apilado.core.document.kick import Drum
from apilado.core.document.layer import Layer
from apilado.core.document.path import AnyStep, Equaliser, Split
from apilado.core.document.stack import Limiter, Stack
from apilado.core.render import steps
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.moves import Moved, Moves, moving
from apilado.core.render.playing import layer_notes, score_of
from apilado.core.render.stage import Stage, stage
from apilado.core.sources.base import AssetLoader


@dataclass(frozen=True)
class Passed:
    """What a sound went into, and what came out."""

    before: Stage
    after: Stage
    reduction: Stage | None = None
    """Gain reduction in dB, shape (frames,); it gives None where the part has none."""


def summed(parts: Sequence[Stage], frames: int) -> Stage:
    """The sum of parts, one by one: a part is let go when it is in."""
    total = parts[:2]
    for part in parts[2:]:
        total = [stage(steps.mix, *total, frames=frames, kept=False), part]
    return stage(steps.mix, *total, frames=frames)


class Builder:
    """Makes the stages of one stack on one clock."""

    def __init__(self, stack: Stack, clock: Clock, load: AssetLoader, audition: Audition = WHOLE) -> None:
        self.stack, self.clock, self.load = stack, clock, load
        self.listened = audition.listened(stack)
        self.passed: dict[str, Passed] = {}
        """By address, the steps of every path that are on, splits, and the limiters of the buses."""
        self._shaped: dict[str, Stage] = {}
        self._keys: dict[tuple[str, tuple[float, ...]], Stage] = {}
        self.hits = {name: self._hit(name) for name in stack.drum_names()}
        self.moves = Moves(stack, clock, self._whole_key, lambda layer: layer_notes(stack, layer))

    def _hit(self, name: str) -> Stage:
        """One hit of a drum, with all that is done to it."""
        drum, clock = self.stack.drum(name), _hit_clock(self.clock)
        hit = stage(steps.hit_sound, sound=drum.sound, seed=self.stack.seed, clock=clock, context={"load": self.load})
        owner = self.stack.drum_owner(name)
        if self.listened is not None and within(self.listened[0], owner):
            return stage(steps.listen_to, hit, point=self.listened[1], clock=clock)
        sections = eq_sections(self.stack.all_points(owner), clock.rate_hz)
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

    def _whole_key(self, name: str) -> Stage:
        """What is followed over the whole loop: a drum's hits before its level, or a layer behind its path.

        What follows something in that layer is left out of it: so nothing can follow itself.
        """
        layer = find(self.stack, name)
        if isinstance(layer, Layer):
            still = tuple(each for each in self.stack.movements if each.shape.follows() is None)
            plain = self.stack.model_copy(update={"movements": still})
            return Builder(plain, self.clock.whole, self.load).shaped(layer)
        return stage(steps.hits_track, self.hits[name], hits=self.stack.drum(name).hits, clock=self.clock.whole)

    def reduction(self, ducker: Ducker, key: Stage) -> Stage:
        """A ducker's gain reduction."""
        moved, hits = self.moves.of(f"duckers/{ducker.id}/shape"), self.stack.hits_of(ducker)
        given = {"shape": moved.still(ducker.shape), "hits": hits, "clock": self.clock}
        return moving(steps.duck_reduction, key, moved=moved, **given)

    def drum(self, name: str) -> Stage:
        """A drum as it sounds."""
        drum: Drum = self.stack.drum(name)
        return stage(
            steps.set_drum,
            self.key(name),
            *self.moves.of(self.stack.drum_owner(name), "level_db").curves,
            level_db=drum.level_db,
            inverted=drum.polarity == "inverted",
            offset_ms=drum.offset_ms,
            clock=self.clock,
        )

    def equalised(self, sound: Stage, address: str, eq: Equaliser) -> Stage:
        """A sound through an EQ: the points that stand still, then those that move."""
        if self.listened is not None and self.listened[0] == address:
            return stage(steps.listen_to, sound, point=self.listened[1], clock=self.clock)
        still, keyed = still_and_moving(self.stack.points_of(address))
        swept = {point.id: self.moves.of(joined(address, "points", point.id)) for point in (*still, *keyed)}
        still = tuple(point for point in still if not swept[point.id].names)
        if still:
            linear = eq.phase == "linear-phase"
            sound = stage(steps.equalise, sound, points=still, linear_phase=linear, clock=self.clock)
        for point in eq.points:
            moved = swept.get(point.id, Moved())
            if moved.names and point.follows() is None:
                sound = moving(steps.sweep_point, sound, moved=moved, point=moved.still(point), clock=self.clock)
        for bell in keyed:
            moved = swept[bell.id]
            given = {"point": moved.still(bell), "clock": self.clock}
            sound = moving(steps.move_point, sound, self.key(bell.trigger), moved=moved, **given)
        return sound

    def along(self, sound: Stage, owner: str, path: Sequence[AnyStep]) -> Stage:
        """A sound along the path of a layer or a bus."""
        for step in path:
            address, before, reduction = joined(owner, "path", step.id), sound, None
            if isinstance(step, Split):
                sound = self.split(sound, cast(Layer, find(self.stack, owner)))
            elif not step.on:
                continue
            elif isinstance(step, Equaliser):
                sound = self.equalised(sound, address, step)
            else:
                moved = self.moves.of(address)
                given = {"treatment": moved.still(step), "clock": self.clock}
                reduction = moving(steps.reduce, sound, moved=moved, **given)
                sound = moving(steps.treat, sound, moved=moved, **given)
            self.passed[address] = Passed(before, sound, reduction)
        return sound

    def source(self, layer: Layer) -> Stage:
        followed = layer.source.follows()
        if followed is not None:
            parent = cast(Layer, self.stack.layer(followed))
            raw = layer.source.follows(treated=False) is not None
            return self.source(parent) if raw else self.shaped(parent)
        context, score = {"load": self.load}, score_of(self.stack, layer)
        moved = self.moves.of(f"layers/{layer.id}/source", whole=True)
        given = {"source": moved.still(layer.source), "score": score, "clock": self.clock}
        return moving(steps.play_source, moved=moved, context=context, **given)

    def shaped(self, layer: Layer) -> Stage:
        """The source, and all of the layer's path."""
        if layer.id not in self._shaped:
            self._shaped[layer.id] = self.along(self.source(layer), f"layers/{layer.id}", layer.path)
        return self._shaped[layer.id]

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
        if not layer.mono:
            sound = self.mono_below(sound, f"layers/{layer.id}", layer.mono_below_hz)
        moved = self.moves.of(f"layers/{layer.id}", "width", "pan", "level_db", "delay_ms")
        still = moved.still(layer)
        return moving(
            steps.place,
            sound,
            moved=moved,
            width=still.width,
            mono=layer.mono,
            pan=still.pan,
            level_db=still.level_db,
            inverted=layer.polarity == "inverted",
            delay_ms=still.delay_ms,
            note_levels=levels,
            notes=layer_notes(self.stack, layer) if levels else (),
            clock=self.clock,
        )

    def mono_below(self, sound: Stage, owner: str, border_hz: float) -> Stage:
        """A sound that is mono below the border of a layer or a bus, if it has one."""
        curves = self.moves.of(owner, "mono_below_hz").curves
        if border_hz <= 0.0 and not curves:
            return sound
        return stage(steps.mono_part, sound, *curves, below_hz=0.0 if curves else border_hz, clock=self.clock)

    def ducked(self, placed: Stage, layer: Layer, reductions: dict[str, Stage]) -> Stage:
        """A layer turned down by all duckers that reach it: whole first, then band by band."""
        curves = {d.id: self.moves.of(f"duckers/{d.id}/amounts", layer.id).curves for d in self.stack.duckers}
        shares = {d.id: None if curves[d.id] else d.amount(layer.id) for d in self.stack.duckers}
        reaching = [d for d in self.stack.duckers if d.id in reductions and shares[d.id] != 0.0]
        whole = [d for d in reaching if d.band_hz() is None]
        sound = placed
        if whole:
            inputs = [*[reductions[d.id] for d in whole], *[curve for d in whole for curve in curves[d.id]]]
            sound = stage(steps.duck_layer, sound, *inputs, amounts=tuple(shares[d.id] for d in whole))
        for ducker in reaching:
            band = ducker.band_hz()
            if band is not None:
                sound = stage(
                    steps.duck_band,
                    sound,
                    reductions[ducker.id],
                    *curves[ducker.id],
                    low_hz=band[0],
                    high_hz=band[1],
                    amount=shares[ducker.id],
                    clock=self.clock,
                )
        return sound

    def mixed(self, parts: Sequence[Stage]) -> Stage:
        """The sum of parts."""
        return summed(parts, self.clock.frames)

    def bus(self, bus_input: Stage) -> Stage:
        """The bass behind its own bus."""
        bus = self.stack.bus
        sound = self.along(bus_input, "bus", bus.path)
        sound = self.mono_below(sound, "bus", bus.mono_below_hz)
        return self.finished("bus", sound, bus.level_db, bus.limiter)

    def shared(self, both: Stage) -> Stage:
        """Bass and kick behind what they go through together."""
        shared = self.stack.shared
        return self.finished("shared", self.along(both, "shared", shared.path), shared.level_db, shared.limiter)

    def finished(self, owner: str, sound: Stage, level_db: float, limiter: Limiter) -> Stage:
        """The end of a bus: its level and its limiter."""
        sound = stage(steps.scale, sound, *self.moves.of(owner, "level_db").curves, level_db=level_db)
        if not limiter.on:
            return sound
        moved = self.moves.of(f"{owner}/limiter")
        given = {"limiter": moved.still(limiter), "clock": self.clock}
        metered = moving(steps.limit_reduction, sound, moved=moved, **given)
        limited = moving(steps.limit, sound, moved=moved, **given)
        self.passed[f"{owner}/limiter"] = Passed(sound, limited, metered)
        return limited


def _hit_clock(clock: Clock) -> Clock:
    """One hit depends on the rate alone: a change of tempo does not make it anew."""
    return Clock(tempo_bpm=60.0, beats=1.0, rate_hz=clock.rate_hz, looped=False)
