"""Everything that is measured of a stack after an edit: what the soundings judge and the drawings draw."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.addresses import get, joined, within
from apilado.core.document.ducker import Ducker
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio, loudest_frame
from apilado.core.measure.drums import DrumFacts, drum_facts
from apilado.core.measure.ducking import Headroom, HitRecovery, headroom_won, hit_recoveries
from apilado.core.measure.flatness import Ripple, worst_ripple
from apilado.core.measure.fullness import Fullness
from apilado.core.measure.kick_phase import KickMeeting
from apilado.core.measure.loudness import Loudness, measure_loudness
from apilado.core.measure.notes import NoteMeasure
from apilado.core.measure.passage import energy_grid, grid_columns
from apilado.core.measure.phase import Alignment, BorderPhase, best_alignment, border_phase
from apilado.core.measure.room_map import RoomMap, room_map
from apilado.core.measure.stem import StemMeasures
from apilado.core.render.builder import summed
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import Graph, build, clock_of
from apilado.core.render.playing import expected_hz
from apilado.core.render.response import band_edges_hz, chains, split_sum, unowned_bands
from apilado.core.render.stage import Stage, stage
from apilado.core.shapes.base import DuckShape
from apilado.core.soundings.asked import (
    asked_of,
    fullness_stage,
    heard_drums,
    kick_stage,
    notes_stage,
    octave_stage,
    part_sum_stages,
    stem_stage,
)
from apilado.core.soundings.step_levels import step_stages
from apilado.core.units import gain_to_db

QUIET_DB = -70.0
SILENT_PEAK = 1e-4


@dataclass(frozen=True)
class SplitRipple:
    """Flatness of the sum of the layers that share one source, at one place of it."""

    kind: Literal["border", "overlap", "hole"]
    """Where neighbours meet, in a band that two of them keep, or in one that nobody keeps."""
    place: int
    """The crossover, or the band."""
    layers: tuple[str, ...]
    ripple: Ripple


@dataclass(frozen=True, eq=False)
class Measures:
    """All measurements of one stack, looped, at its own rate; of the layers that are heard."""

    stack: Stack
    clock: Clock
    stems: dict[str, StemMeasures]
    """After the duck, by layer."""
    notes: dict[str, tuple[NoteMeasure, ...]]
    """By layer, before all that drums do to it: a dip that the kick makes is not a note that is quiet."""
    bass: StemMeasures
    kick: StemMeasures
    space: StemMeasures | None
    """What the space gives back; None where nothing is sent to it."""
    output_loudness: Loudness
    borders: tuple[tuple[int, BorderPhase], ...]
    """(crossover, phase) of each pair of neighbours."""
    ripples: tuple[SplitRipple, ...]
    reductions: dict[str, NDArray[np.float32]]
    """Gain reduction in dB by ducker, of those that are on."""
    recoveries: dict[str, tuple[HitRecovery, ...]]
    grids: dict[str, NDArray[np.float32]]
    """Energy over time of each heard layer, after the duck, and of each heard drum, by its path."""
    bass_audio: Audio
    kick_audio: Audio
    graph: Graph
    note_stages: dict[str, Stage]
    """What measures the notes of each layer."""
    load: AssetLoader
    check: Callable[[], None]
    """Asks whether it is still wanted, and waits where it gives way; raises Overtaken if not."""
    run_all: Callable[[Sequence[Stage]], list[Any]]
    """Computes stages that only some questions need, through the engine's cache."""

    measure_again: Callable[[Stack], Measures]
    """Measures another stack in the same way."""

    def run(self, wanted: Stage) -> Any:
        """Computes one such stage."""
        return self.run_all([wanted])[0]

    @cached_property
    def backing(self) -> Stage | None:
        """The sum of the backing tracks that sound, if any does; it is in nothing else that is measured."""
        there = [track for owner, track in self.graph.backing.items() if self.stack.sounds(owner)]
        return summed(there, self.clock.frames) if there else None

    @cached_property
    def sub(self) -> Layer | None:
        """The sub: of the layers that own the lowest band, the one that reaches least high; of those, the loudest."""
        lowest = [layer for layer in self.stack.audible_layers() if layer.span.first == 0]
        return max(lowest, key=lambda layer: (-layer.span.last, self.stems[layer.id].power), default=None)

    @cached_property
    def fundamentals(self) -> dict[int, float]:
        """Fundamental in Hz by pitch of the pattern, for the notes that the sub plays."""
        sub = self.sub
        if sub is None:
            return {}
        return {
            note.pitch: note.frequency_hz or expected_hz(self.stack, sub, note.pitch)
            for note in self.notes[sub.id]
            if note.level_db > QUIET_DB
        }

    @cached_property
    def fullness(self) -> Fullness | None:
        """Of the sub's loudest note."""
        if self.sub is None:
            return None
        notes = self.note_stages[self.sub.id]
        found: Fullness | None = self.run(fullness_stage(self.graph, self.sub.id, notes, self.clock))
        return found

    @cached_property
    def kick_meeting(self) -> KickMeeting | None:
        """How kick and sub add up at the hits."""
        wanted = None if self.sub is None else kick_stage(self.stack, self.graph, self.sub.id, self.clock)
        found: KickMeeting | None = None if wanted is None else self.run(wanted)
        return found

    @property
    def heard_drums(self) -> tuple[str, ...]:
        """The drums that sound, the kick first."""
        return heard_drums(self.stack)

    @cached_property
    def room(self) -> RoomMap:
        """Who has how much energy where and when."""
        return room_map(self.grids)

    def alignment_at(self, index: int, lower: str, upper: str) -> Alignment:
        """The polarity and delay of the upper of two neighbours with which their sum is loudest at their border."""
        octaves = _meeting(self.stack, self.graph.layers, self.clock, index, (lower, upper))
        found: Alignment = self.run(stage(best_alignment, *octaves))
        return found

    def measured(self, sound: Stage) -> StemMeasures:
        """What is measured of a sound by itself, through the cache."""
        found: StemMeasures = self.run(stem_stage(sound, self.clock))
        return found

    def beat_of(self, frame: int) -> float:
        """The position of a frame in beats."""
        return frame / self.clock.loop_frames * self.clock.beats

    def key_of(self, ducker: Ducker) -> Audio:
        """The sound that a ducker follows."""
        found: Audio = self.run(self.graph.keys[ducker.id])
        return found

    def hit_frames(self, ducker: Ducker) -> tuple[tuple[float, int], ...]:
        """(beat, frame) of each hit that a ducker follows."""
        return hits_in_frames(self.stack, ducker, self.clock)

    def recoveries_with(self, ducker: Ducker, shape: DuckShape) -> tuple[HitRecovery, ...]:
        """How a ducker would come back with another shape, found by running it."""
        hits = self.hit_frames(ducker)
        reduction = shape.reduction(self.key_of(ducker), tuple(frame for _, frame in hits), self.clock)
        return hit_recoveries(reduction, hits, **_timing(shape, self.clock))

    def drum_facts(self, name: str) -> DrumFacts:
        """What one hit of a drum is like."""
        hit = self.graph.hits[name]
        found: DrumFacts = self.run(stage(drum_facts, hit, rate_hz=self.clock.rate_hz))
        return found

    @cached_property
    def undone(self) -> Graph:
        """The same stack with all duckers off."""
        duckers = tuple(d.model_copy(update={"on": False}) for d in self.stack.duckers)
        return build(self.stack.model_copy(update={"duckers": duckers}), self.clock, self.load)

    @cached_property
    def peak_beat(self) -> float:
        """Where the output is loudest, in beats from the start of the loop."""
        frame = loudest_frame(self.run(self.graph.output))
        return frame * self.clock.beats / self.clock.loop_frames

    @cached_property
    def headroom(self) -> Headroom:
        """What the duckers win in the peak of the mix."""
        outputs = [self.graph.output, self.undone.output]
        after, before = (self.run(output) for output in outputs)
        return headroom_won(before, after)

    @property
    def kick_over_bass_db(self) -> float | None:
        """How far the kick peaks over the bass; None where either is silent."""
        if "kick" not in self.heard_drums or not self.sounding or self.kick.peak < SILENT_PEAK:
            return None
        return float(gain_to_db(self.kick.peak)) - float(gain_to_db(self.bass.peak))

    @property
    def sounding(self) -> bool:
        """Whether the bass makes any sound."""
        return self.bass.peak > 1e-5


def measure(stack: Stack, load: AssetLoader, engine: Engine, token: Token | None = None) -> Measures:
    """Renders what is needed and measures it; what has not changed comes from the engine's cache.

    Raises:
        Overtaken: the token was overtaken before the end.
    """
    token = token or Token()
    clock = clock_of(stack, looped=True)
    graph = build(stack, clock, load)
    engine.check(token)
    rate = clock.rate_hz
    heard = list(graph.audible)
    columns = grid_columns(clock.beats)
    alone = placed_alone(stack, graph, clock, load)
    note_stages = {each.id: notes_stage(stack, each, alone[each.id], clock) for each in stack.audible_layers()}
    asked = asked_of(stack, graph, note_stages, clock)
    loudness = stage(measure_loudness, graph.output, rate_hz=rate, looped=True)
    wanted: dict[Any, Stage] = {}
    # What is asked of sounds that are there already comes first: at the end one thread would be left alone with it.
    if engine.holds(graph.output):
        wanted["output loudness"] = loudness
    if engine.holds(graph.bass):
        wanted["bass"] = stem_stage(graph.bass, clock)
    for layer in stack.audible_layers():
        name = layer.id
        stem = graph.layers[name]
        # First what is asked of its steps: then nothing of its path has to wait for the rest of it.
        steps = step_stages(stack, graph, clock, f"layers/{name}")
        wanted.update({("step", name, number): each for number, each in enumerate(steps)})
        wanted["stem", name] = stem_stage(stem, clock)
        wanted["notes", name] = note_stages[name]
        wanted.update({("asked", name, number): each for number, each in enumerate(asked[name])})
        wanted["grid", f"layers/{name}"] = stage(energy_grid, stem, wanted["stem", name], columns=columns)
        # Asked for here, not where two layers meet: so a layer's spectrum is let go before the next layer is begun.
        for hertz in _meeting_hz(stack, layer):
            wanted["octave", name, hertz] = octave_stage(stem, clock, hertz)
    for name in heard_drums(stack):
        sound = graph.drums[name]
        wanted["grid", stack.drum_owner(name)] = stage(energy_grid, sound, stem_stage(sound, clock), columns=columns)
    for owner in counted_backing(stack):
        sound = graph.backing[owner]
        wanted["grid", owner] = stage(energy_grid, sound, stem_stage(sound, clock), columns=columns)
    space = {"space": graph.buses["space"]} if "space" in graph.buses else {}
    for key, audio in (("bass", graph.bass), ("kick", graph.kick), *space.items()):
        wanted[key] = stem_stage(audio, clock)
    for bus in graph.buses:
        wanted.update(
            {("step", bus, number): each for number, each in enumerate(step_stages(stack, graph, clock, bus))}
        )
    wanted["output loudness"] = loudness
    wanted["bass audio"], wanted["kick audio"] = graph.bass, graph.kick
    for name, reduction in graph.reductions.items():
        wanted["reduction", name] = reduction
    for ducker in [each for each in stack.duckers if each.on]:
        hits = hits_in_frames(stack, ducker, clock)
        wanted["recoveries", ducker.id] = stage(
            hit_recoveries, graph.reductions[ducker.id], hits=hits, **_timing(ducker.shape, clock)
        )
    meetings = border_stages(stack, graph.layers, clock)
    wanted.update({("border", *names): meeting for names, (_, meeting) in meetings.items()})
    wanted.update({("sum", number): each for number, (_, each) in enumerate(part_sum_stages(stack, graph, clock))})
    engine.check(token)
    results = dict(zip(wanted, engine.run(list(wanted.values()), token), strict=True))
    stems = {name: results["stem", name] for name in heard}
    reductions = {name: results["reduction", name] for name in graph.reductions}
    return Measures(
        stack=stack,
        clock=clock,
        stems=stems,
        notes={name: results["notes", name] for name in heard},
        bass=results["bass"],
        kick=results["kick"],
        space=results.get("space"),
        output_loudness=results["output loudness"],
        borders=tuple((index, results["border", *names]) for names, (index, _) in meetings.items()),
        ripples=split_ripples(stack, rate),
        reductions=reductions,
        recoveries={key[1]: found for key, found in results.items() if key[0] == "recoveries"},
        grids={key[1]: found for key, found in results.items() if key[0] == "grid"},
        bass_audio=results["bass audio"],
        kick_audio=results["kick audio"],
        graph=graph,
        note_stages=note_stages,
        load=load,
        check=partial(engine.check, token),
        run_all=lambda wished: engine.run(wished, token),
        measure_again=lambda other: measure(other, load, engine, token),
    )


def placed_alone(stack: Stack, graph: Graph, clock: Clock, load: AssetLoader) -> dict[str, Stage]:
    """Every layer just before the duck, without what drums open or move in it."""
    if not any(_driven(stack)):
        return graph.placed
    data = stack.model_dump(mode="json")
    for each in [get(data, path) for path in _driven(stack)]:
        each["on"] = False
    return build(Stack.model_validate(data), clock, load).placed


def _driven(stack: Stack) -> Iterator[str]:
    """The addresses of what drums drive: points of the layers' EQs that are on, steps that listen, and movements."""
    for layer in stack.layers:
        eqs = {address: eq for address, eq in stack.equalisers().items() if within(address, f"layers/{layer.id}")}
        for address, eq in eqs.items():
            yield from (joined(address, "points", p.id) for p in eq.points if p.on and p.follows() is not None)
        for address, step in stack.treatments(f"layers/{layer.id}"):
            if step.on and step.follows() is not None:
                yield address
    for movement in stack.movements:
        if movement.on and (movement.begins == "hit" or movement.shape.follows() is not None):
            yield f"movements/{movement.id}"


def counted_backing(stack: Stack) -> tuple[str, ...]:
    """The addresses of the backing tracks that count in the room map, and sound."""
    owners = {f"backing/{track.id}": track for track in stack.backing}
    return tuple(owner for owner, track in owners.items() if track.counts and stack.sounds(owner))


def border_stages(stack: Stack, sounds: Mapping[str, Stage], clock: Clock) -> dict[tuple[str, str], tuple[int, Stage]]:
    """(crossover, how they stand on each other) of each pair of heard neighbours, given the layers' sounds."""
    return {
        names: (index, stage(border_phase, *_meeting(stack, sounds, clock, index, names), names=names))
        for index, names in meeting_layers(stack)
    }


def meeting_layers(stack: Stack) -> tuple[tuple[int, tuple[str, str]], ...]:
    """(crossover, ids of the layer below and of the one above) of each pair of heard neighbours."""
    heard = stack.audible_layers()
    return tuple(
        (index, (lower.id, upper.id))
        for index in range(len(stack.crossovers))
        for lower in heard
        if lower.span.last == index
        for upper in heard
        if upper.span.first == index + 1
    )


def _meeting(
    stack: Stack, sounds: Mapping[str, Stage], clock: Clock, index: int, names: tuple[str, str]
) -> tuple[Stage, Stage]:
    hertz = stack.crossovers[index].frequency_hz
    return octave_stage(sounds[names[0]], clock, hertz), octave_stage(sounds[names[1]], clock, hertz)


def _meeting_hz(stack: Stack, layer: Layer) -> tuple[float, ...]:
    """The borders at which a layer meets another."""
    borders = {index for index, names in meeting_layers(stack) if layer.id in names}
    return tuple(stack.crossovers[index].frequency_hz for index in sorted(borders))


def split_ripples(stack: Stack, rate_hz: int) -> tuple[SplitRipple, ...]:
    """Flatness of the sum of the heard layers of each source, from the filters, polarity and delay alone."""
    if not stack.crossovers:
        return ()
    frequencies = np.geomspace(20.0, min(18000.0, 0.45 * rate_hz), 1200)
    edges = band_edges_hz(stack)
    found = []
    for chain in chains(stack):
        if len(chain.members) < 2:
            continue
        total = split_sum(stack, chain, frequencies, rate_hz)

        def ripple(low_hz: float, high_hz: float, total: NDArray[np.complex128] = total) -> Ripple:
            return worst_ripple(total, frequencies, low_hz / 2.0**0.5, high_hz * 2.0**0.5)

        for index in range(chain.first, chain.last):
            below = [m.id for m in chain.members if m.span.last == index]
            above = [m.id for m in chain.members if m.span.first == index + 1]
            if below and above:
                hertz = stack.crossovers[index].frequency_hz
                found.append(SplitRipple("border", index, (*below, *above), ripple(hertz, hertz)))
        for band in range(chain.first, chain.last + 1):
            owners = chain.owners(band)
            if len(owners) > 1:
                names = tuple(m.id for m in owners)
                found.append(SplitRipple("overlap", band, names, ripple(edges[band], edges[band + 1])))
            elif not owners and band in unowned_bands(stack):
                beside = [m for m in chain.members if m.span.last == band - 1 or m.span.first == band + 1]
                names = tuple(m.id for m in beside)
                found.append(SplitRipple("hole", band, names, ripple(edges[band], edges[band + 1])))
    return tuple(found)


def hits_in_frames(stack: Stack, ducker: Ducker, clock: Clock) -> tuple[tuple[float, int], ...]:
    """(beat, frame) of each hit that a ducker follows."""
    return tuple((beat, clock.sample_at(beat)) for beat in stack.hits_of(ducker))


def _timing(shape: DuckShape, clock: Clock) -> dict[str, Any]:
    """What tells when the reduction of a hit begins and how long it lasts."""
    return {"rate_hz": clock.rate_hz, "lookahead_frames": clock.samples_in_ms(shape.lead_ms())}
