"""What makes the stages of a stack: sources, paths, drums, ducks, buses."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import Any, cast

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.addresses import find, within
from apilado.core.document.addresses import joined as in_
from apilado.core.document.backing import BackingTrack
from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import eq_sections, still_and_moving
from apilado.core.document.forms import forms_of, heard_over, in_frames, rendered_twice
from apilado.core.document.kick import Drum
from apilado.core.document.layer import Layer
from apilado.core.document.path import AnyStep, Container, Equaliser, Split
from apilado.core.document.stack import Limiter, Stack
from apilado.core.document.without import following_nothing
from apilado.core.render import steps
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.containing import contained
from apilado.core.render.freezing import all_thawed, frozen, loop_of
from apilado.core.render.memories import Memories
from apilado.core.render.moves import Moved, Moves, moving
from apilado.core.render.passed import Passed
from apilado.core.render.playing import layer_notes
from apilado.core.render.sourced import sourced
from apilado.core.render.stage import Stage, joined, stage
from apilado.core.sources.take import NO_NOTES
from apilado.core.treatments.base import Treatment

NOT_REDUCED = stage(steps.no_reduction)


def summed(parts: Sequence[Stage], frames: int) -> Stage:
    """The sum of parts, one by one: a part is let go when it is in."""
    total = parts[:2]
    for part in parts[2:]:
        total = [stage(steps.mix, *total, frames=frames, kept=False), part]
    return stage(steps.mix, *total, frames=frames)


class Builder:
    """Makes the stages of one stack on one clock."""

    def __init__(
        self,
        stack: Stack,
        clock: Clock,
        load: AssetLoader,
        audition: Audition = WHOLE,
        measured: Callable[[], Mapping[str, Stage]] = dict,
    ) -> None:
        """
        Args:
            measured: what is measured once over the loop of each step, by its address: for a single pass.
        """
        self.stack, self.clock, self.load = stack, clock, load
        self.measured, self._audition = measured, audition
        self.listened, self.focus = audition.listened(stack), audition.focus(stack)
        self.passed: dict[str, Passed] = {}
        """By address, the steps of every path that are on, splits, bands of containers, the limiters of the buses."""
        self.forms = forms_of(stack, rendered_twice(stack))
        self.plan = in_frames(self.forms.plan, stack, clock)
        self.memories = Memories(self.forms.stacks, clock)
        self._sources: dict[str, Stage] = {}
        self._shaped: dict[str, Stage] = {}
        self._live: dict[str, Stage] = {}
        self._thawed_loop: Builder | None = None
        self.frozen: set[str] = set()
        """The ids of the layers whose source and path are not rendered."""
        self._followed: dict[str, Stage] = {}
        self._keys: dict[tuple[str, tuple[float, ...]], Stage] = {}
        self._hits = {name: [self._hit(form, name) for form in self.forms.stacks] for name in stack.drum_names()}
        self.hits = {name: made[0] for name, made in self._hits.items()}
        self.moves = Moves(stack, clock, self._whole_key, lambda layer: layer_notes(stack, layer))

    def in_forms(self, make: Callable[[Stack], Stage]) -> Stage:
        """What is made of the stack in each of its forms, joined at its output; made once where they do not differ."""
        return joined([make(form) for form in self.forms.stacks], self.plan, self.clock, steps.join)

    def anywhere(self, switch: str) -> bool:
        """Whether what is switched at an address is on in any form."""
        return any(find(form, switch) for form in self.forms.stacks)

    def gated(self, sound: Stage, owner: str) -> Stage:
        """A layer or a drum in the bars in which it is not muted; all of it where that is nowhere."""
        heard = in_frames(heard_over(self.stack, owner), self.stack, self.clock)
        if len(heard) == 1:
            return sound
        return stage(steps.let_in, sound, plan=heard, number=1, clock=self.clock)

    def _hit(self, stack: Stack, name: str) -> Stage:
        """One hit of a drum, with all that is done to it."""
        drum, clock = stack.drum(name), _hit_clock(self.clock)
        hit = stage(steps.hit_sound, sound=drum.sound, seed=stack.seed, clock=clock, context={"load": self.load})
        owner = stack.drum_owner(name)
        if self.listened is not None and within(self.listened[0], owner):
            return stage(steps.listen_to, hit, point=self.listened[1], clock=clock)
        sections = eq_sections(stack.all_points(owner), clock.rate_hz)
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
        hits = self.stack.hits(name) if hits is None else hits
        if (name, hits) not in self._keys:
            self._keys[name, hits] = self._track(name, hits, self.clock)
        return self._keys[name, hits]

    def _track(self, name: str, hits: tuple[float, ...], clock: Clock) -> Stage:
        """Hits laid where they fall, each as the drum sounds in its bar."""
        made = list({each.key: each for each in self._hits[name]}.values())
        if len(made) == 1:
            return stage(steps.hits_track, made[0], hits=hits, clock=clock)
        keys = [each.key for each in made]
        numbers = [n for bar, n in self.forms.plan]
        bars = [bar for bar, _ in self.forms.plan]
        which = tuple(
            keys.index(self._hits[name][numbers[bisect_right(bars, hit // self.stack.beats_per_bar) - 1]].key)
            for hit in hits
        )
        return stage(steps.hits_track, *made, hits=hits, which=which, clock=clock)

    def _whole_key(self, name: str) -> Stage:
        """What is followed over the whole loop: a drum's hits before its level, or a layer behind its path.

        What follows something in that layer is left out of it: so nothing can follow itself.
        """
        layer = find(self.stack, name)
        if isinstance(layer, Layer):
            if name not in self._followed:
                plain = following_nothing(self.stack)
                builder = Builder(plain, self.clock, self.load, measured=self.measured)
                self._followed[name] = builder.shaped(cast(Layer, find(plain, name)))
            return self._followed[name]
        return self._track(name, self.stack.hits(name), self.clock)

    def followed_by(self, ducker: Ducker) -> Stage:
        """The hits that a ducker follows, before their level."""
        return self.key(ducker.trigger, self.stack.hits_of(ducker))

    def reduction(self, ducker: Ducker) -> Stage:
        """A ducker's gain reduction; none where a section has it off."""

        def made(stack: Stack) -> Stage:
            each = cast(Ducker, stack.ducker(ducker.id))
            if not each.on:
                return stage(steps.nothing_taken, clock=self.clock)
            moved, hits = self.moves.of(f"duckers/{each.id}/shape"), stack.hits_of(each)
            given: dict[str, Any] = {"shape": moved.still(each.shape), "hits": hits, "clock": self.clock}
            key, remembers = self.key(each.trigger, hits), partial(self.memories.duck, each.shape)
            return moving(
                steps.duck_reduction, key, moved=moved, remembers=remembers, where=f"duckers/{each.id}", **given
            )

        return self.in_forms(made)

    def drum(self, name: str) -> Stage:
        """A drum as it sounds."""
        owner, curves = self.stack.drum_owner(name), self.moves.of(self.stack.drum_owner(name), "level_db").curves

        def made(stack: Stack) -> Stage:
            drum: Drum = stack.drum(name)
            return stage(
                steps.set_drum,
                self.key(name),
                *curves,
                level_db=0.0 if curves else drum.level_db,
                inverted=drum.polarity == "inverted",
                offset_ms=drum.offset_ms,
                clock=self.clock,
                remembers=partial(self.memories.drum, drum),
            )

        return self.gated(self.in_forms(made), owner)

    def equalised(self, sound: Stage, address: str, stack: Stack) -> Stage:
        """A sound through an EQ in one form: the points that stand still, then those that move."""
        if self.listened is not None and self.listened[0] == address:
            return stage(steps.listen_to, sound, point=self.listened[1], clock=self.clock)
        eq = cast(Equaliser, find(stack, address))
        still, keyed = still_and_moving(stack.points_of(address))
        swept = {point.id: self.moves.of(in_(address, "points", point.id)) for point in (*still, *keyed)}
        still = tuple(point for point in still if not swept[point.id].names)
        if still:
            linear = eq.phase == "linear-phase"
            given: dict[str, Any] = {"points": still, "linear_phase": linear, "clock": self.clock}
            remembers = partial(self.memories.points, address, still, linear)
            sound = stage(steps.equalise, sound, **given, remembers=remembers)
        for point in eq.points:
            moved = swept.get(point.id, Moved())
            if moved.names and point.follows() is None:
                given = {"point": moved.still(point), "clock": self.clock}
                remembers = partial(self.memories.points, address, (point,), False)
                sound = moving(steps.sweep_point, sound, moved=moved, remembers=remembers, **given)
        for bell in keyed:
            moved = swept[bell.id]
            given = {"point": moved.still(bell), "clock": self.clock}
            remembers = partial(self.memories.points, address, (bell,), False)
            opens = partial(self.memories.opening, bell)
            opened = moving(steps.open_point, self.key(bell.trigger), moved=moved, remembers=opens, **given)
            sound = moving(steps.move_point, sound, opened, moved=moved, remembers=remembers, **given)
        return sound

    def along(self, sound: Stage, owner: str, path: Sequence[AnyStep]) -> Stage:
        """A sound along the path of a layer or a bus."""
        for step in path:
            address = in_(owner, "path", step.id)
            if isinstance(step, Split):
                passed = Passed(sound, self.split(sound, owner))
            elif not self.anywhere(in_(address, "on")):
                continue
            elif isinstance(step, Equaliser):
                passed = Passed(sound, self.in_forms(partial(self.equalised, sound, address)))
            elif isinstance(step, Container):
                passed = contained(self, sound, address)
            else:
                treated, reduction = self.treated(sound, address)
                out, level = self.kept_level(sound, treated, address)
                passed = Passed(sound, out, reduction, level)
            self.passed[address], sound = passed, passed.after
        return sound

    def measured_once(
        self, function: Callable[..., Any], before: Stage, after: Stage, address: str, **parameters: Any
    ) -> Stage:
        """What is measured of a step once, over the whole loop: in a single pass as it is there."""
        if self.clock.comes_round:
            return stage(function, before, after, where=address, **parameters)
        return self.measured()[address]

    def treated(self, sound: Stage, address: str) -> tuple[Stage, Stage]:
        """(a sound behind a treatment, the gain that this takes).

        What rings on is given the bars of each form and is heard behind them; anything else is joined where they end.
        """
        moved, forms = self.moves.of(address), [cast(Treatment, find(form, address)) for form in self.forms.stacks]
        if any(step.rings_on for step in forms):
            sound = replace(sound, lasting=True)  # what rings of it, and what the step gave, serve an edit

        def behind(function: Callable[..., Any], off: Stage, sound: Stage, step: Treatment) -> Stage:
            if not step.on:
                return off
            given: dict[str, Any] = {"treatment": moved.still(step), "clock": self.clock, "where": address}
            given["each_channel"] = step.each_channel and function is steps.treat
            remembers = partial(self.memories.treatment, address, step)
            return moving(function, sound, *self._beside(step), moved=moved, remembers=remembers, **given)

        def taken(sound: Stage, step: Treatment) -> Stage:
            return behind(steps.reduce, NOT_REDUCED, sound, step)

        def through(sound: Stage, step: Treatment, gain: Stage) -> Stage:
            if not (step.on and step.by_reduction):
                made = behind(steps.treat, sound, sound, step)
                return replace(made, lasting=True) if step.on and step.rings_on else made
            return moving(steps.turn_down, sound, gain, moved=moved, treatment=moved.still(step))

        reductions = [taken(sound, step) for step in forms]
        reduction = joined(reductions, self.plan, self.clock, steps.join)
        made = [through(sound, step, each) for step, each in zip(forms, reductions, strict=True)]
        out = joined(made, self.plan, self.clock, steps.join)
        if out in made or not any(step.on and step.rings_on for step in forms):
            return out, reduction
        own = [
            stage(steps.let_in, sound, plan=self.plan, number=number, clock=self.clock) for number in range(len(forms))
        ]
        ringing = [through(part, step, taken(part, step)) for part, step in zip(own, forms, strict=True)]
        return stage(steps.together, *ringing), reduction

    def _beside(self, step: Treatment) -> tuple[Stage, ...]:
        """What a treatment is given besides its sound: what it follows, or what it has prepared."""
        followed = step.follows()
        if followed is not None:
            return (self._whole_key(followed),)
        if not step.prepares:
            return ()
        return (stage(steps.prepared, treatment=step, rate_hz=self.clock.rate_hz, context={"load": self.load}),)

    def kept_level(self, before: Stage, after: Stage, address: str) -> tuple[Stage, Stage | None]:
        """(a sound behind a treatment, as loud as before it where it is to be so, the gain of that)."""
        keeping = [cast(Treatment, find(form, address)) for form in self.forms.stacks]
        if not any(step.on and step.keeps_level() for step in keeping):
            return after, None
        was, now = (stage(steps.weighted_power, each, rate_hz=self.clock.rate_hz) for each in (before, after))
        gain = self.measured_once(steps.level_gain, was, now, address)
        turned = stage(steps.turned, after, gain)
        forms = [turned if step.on and step.keeps_level() else after for step in keeping]
        return joined(forms, self.plan, self.clock, steps.join), gain

    def source(self, layer: Layer) -> Stage:
        """The raw sound of a layer, behind the filters of its source."""
        if layer.id not in self._sources:
            self._sources[layer.id] = sourced(self, layer)
        return self._sources[layer.id]

    def shaped(self, layer: Layer) -> Stage:
        """The source, and all of the layer's path; of a layer that is frozen, what is kept of them."""
        if layer.id not in self._shaped:
            kept = frozen(self, layer) if layer.frozen else None
            if kept is not None:
                self.frozen.add(layer.id)
            self._shaped[layer.id] = kept or self.live(layer)
        return self._shaped[layer.id]

    def live(self, layer: Layer) -> Stage:
        """The source and the path of a layer, rendered."""
        if layer.id not in self._live:
            self._live[layer.id] = self.along(self.source(layer), f"layers/{layer.id}", layer.path)
        return self._live[layer.id]

    def thawed_loop(self) -> Builder:
        """What makes the stages of the loop of the same stack with nothing frozen in it."""
        if self._thawed_loop is None:
            stack = all_thawed(self.stack)
            same = self.clock.looped and stack is self.stack
            self._thawed_loop = self if same else Builder(stack, loop_of(self.clock), self.load, self._audition)
        return self._thawed_loop

    def split(self, sound: Stage, owner: str) -> Stage:
        """A sound in the band of a layer."""
        if not self.stack.crossovers:
            return sound
        span = cast(Layer, find(self.stack, owner)).span

        def made(stack: Stack) -> Stage:
            band: dict[str, Any] = {"first": span.first, "last": span.last}
            given = {"crossovers": stack.crossovers, **band, "clock": self.clock}
            return stage(steps.split_bands, sound, **given, remembers=partial(self.memories.split, owner))

        return self.in_forms(made)

    def placed(self, layer: Layer) -> Stage:
        """The layer on its place: width, polarity, delay, level."""
        sound = self.shaped(layer)

        def mono_below(stack: Stack) -> Stage:
            each = cast(Layer, stack.layer(layer.id))
            return sound if each.mono else self.mono_below(sound, f"layers/{layer.id}", each.mono_below_hz)

        below = self.in_forms(mono_below)
        return self.in_forms(lambda stack: self._placed(below, cast(Layer, stack.layer(layer.id))))

    def _placed(self, sound: Stage, layer: Layer) -> Stage:
        levels = tuple(layer.note_levels_db.items())
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
            remembers=partial(self.memories.place, layer),
        )

    def mono_below(self, sound: Stage, owner: str, border_hz: float) -> Stage:
        """A sound that is mono below the border of a layer or a bus, if it has one."""
        curves = self.moves.of(owner, "mono_below_hz").curves
        if border_hz <= 0.0 and not curves:
            return sound
        remembers = partial(self.memories.mono, owner, border_hz)
        below_hz = 0.0 if curves else border_hz
        return stage(steps.mono_part, sound, *curves, below_hz=below_hz, clock=self.clock, remembers=remembers)

    def ducked(self, placed: Stage, layer: Layer, reductions: dict[str, Stage]) -> Stage:
        """A layer turned down by all duckers that reach it: whole first, then band by band."""
        sound = self.in_forms(partial(self._ducked_whole, placed, layer, reductions))
        for ducker in self.stack.duckers:
            sound = self.in_forms(partial(self._ducked_in_band, sound, layer, reductions, ducker.id))
        return sound

    def _share(self, ducker: Ducker, layer: Layer) -> tuple[float | None, tuple[Stage, ...]]:
        """(what share of a duck a layer takes, its curve); the number is None where it moves."""
        curves = self.moves.of(f"duckers/{ducker.id}/amounts", layer.id).curves
        return None if curves else ducker.amount(layer.id), curves

    def _ducked_whole(self, sound: Stage, layer: Layer, reductions: dict[str, Stage], stack: Stack) -> Stage:
        whole = [d for d in stack.duckers if d.id in reductions and d.band_hz() is None]
        shares = [(d, *self._share(d, layer)) for d in whole]
        reaching = [(d, share, curves) for d, share, curves in shares if share != 0.0]
        if not reaching:
            return sound
        inputs = [
            *[reductions[d.id] for d, _, _ in reaching],
            *[curve for _, _, curves in reaching for curve in curves],
        ]
        return stage(steps.duck_layer, sound, *inputs, amounts=tuple(share for _, share, _ in reaching))

    def _ducked_in_band(
        self, sound: Stage, layer: Layer, reductions: dict[str, Stage], ducker_id: str, stack: Stack
    ) -> Stage:
        ducker = cast(Ducker, stack.ducker(ducker_id))
        band, (share, curves) = ducker.band_hz(), self._share(ducker, layer)
        if band is None or ducker_id not in reductions or share == 0.0:
            return sound
        given: dict[str, Any] = {"low_hz": band[0], "high_hz": band[1], "amount": share, "clock": self.clock}
        remembers = partial(self.memories.band, band)
        return stage(steps.duck_band, sound, reductions[ducker_id], *curves, **given, remembers=remembers)

    def backing(self, track: BackingTrack) -> Stage:
        """A backing track as it is laid."""
        owner, context = in_("backing", track.id), {"load": self.load}

        def laid(stack: Stack) -> Stage:
            sound = cast(BackingTrack, find(stack, owner)).sound
            return stage(steps.play_source, source=sound, score=NO_NOTES, clock=self.clock, context=context)

        return self.gated(self.in_forms(laid), owner)

    def mixed(self, parts: Sequence[Stage]) -> Stage:
        """The sum of parts."""
        return summed(parts, self.clock.frames)

    def bus(self, bus_input: Stage) -> Stage:
        """The bass behind its own bus."""
        bus = self.stack.bus
        sound = self.along(bus_input, "bus", bus.path)
        sound = self.mono_below(sound, "bus", bus.mono_below_hz)
        return self.finished("bus", sound, bus.level_db)

    def sent(self, sound: Stage, owner: str) -> Stage | None:
        """What a layer, a drum or the bus sends to the space; None where that is nothing."""
        curves, share = self.moves.of(owner, "send").curves, float(find(self.stack, owner).send)
        if not curves and share == 0.0:
            return None
        if owner == "bus":
            sound = self.in_forms(partial(self._above_the_lowest_border, sound))
        return stage(steps.sent, sound, *curves, share=0.0 if curves else share)

    def _above_the_lowest_border(self, sound: Stage, stack: Stack) -> Stage:
        if not stack.crossovers:
            return sound
        given: dict[str, Any] = {"border_hz": stack.crossovers[0].frequency_hz, "clock": self.clock}
        return stage(steps.above, sound, **given, remembers=self.memories.sent)

    def space(self, sends: Sequence[Stage]) -> Stage:
        """What the space gives back of all that is sent to it."""
        curves, level_db = self.moves.of("space", "level_db").curves, self.stack.space.level_db
        sound = self.along(self.mixed(sends), "space", self.stack.space.path)
        sound = stage(steps.scale, sound, *curves, level_db=0.0 if curves else level_db)
        return self.gated(sound, "space")

    def shared(self, both: Stage) -> Stage:
        """Bass and kick behind what they go through together."""
        shared = self.stack.shared
        out = self.finished("shared", self.along(both, "shared", shared.path), shared.level_db)
        return self.in_forms(lambda stack: out if stack.shared.on else both)

    def finished(self, owner: str, sound: Stage, level_db: float) -> Stage:
        """The end of a bus: its level and its limiter."""
        curves = self.moves.of(owner, "level_db").curves
        scaled = stage(steps.scale, sound, *curves, level_db=0.0 if curves else level_db)
        address = f"{owner}/limiter"
        moved = self.moves.of(address)

        def reduction(stack: Stack) -> Stage:
            limiter = cast(Limiter, find(stack, address))
            if not limiter.on:
                return NOT_REDUCED
            given: dict[str, Any] = {"limiter": moved.still(limiter), "clock": self.clock}
            remembers = partial(self.memories.limiter, limiter)
            return moving(steps.limit_reduction, scaled, moved=moved, remembers=remembers, where=address, **given)

        if not self.anywhere(in_(address, "on")):
            return scaled

        def behind(stack: Stack) -> Stage:
            return stage(steps.limit, scaled, reduction(stack)) if find(stack, address).on else scaled

        limited = self.in_forms(behind)
        self.passed[address] = Passed(scaled, limited, self.in_forms(reduction))
        return limited


def _hit_clock(clock: Clock) -> Clock:
    """One hit depends on the rate alone: a change of tempo does not make it anew."""
    return Clock(tempo_bpm=60.0, beats=1.0, rate_hz=clock.rate_hz, looped=False)
