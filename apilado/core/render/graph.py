"""From a document to its stages."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cache
from types import MappingProxyType

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.addresses import find, owner_of
from apilado.core.document.stack import Stack
from apilado.core.identity import ByIdentity
from apilado.core.render import steps
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.builder import Builder
from apilado.core.render.freezing import loop_of, rendered
from apilado.core.render.passed import Passed
from apilado.core.render.stage import Stage, stage
from apilado.core.render.tail import tail_seconds
from apilado.errors import NotFound

_BUILT = ByIdentity(6)


@dataclass(frozen=True)
class Graph:
    """The stages of a whole render; every audio result has shape (2, clock.frames)."""

    clock: Clock
    sources: dict[str, Stage]
    """A layer's raw sound (1 or 2 channels), by its id; all layers."""
    shaped: dict[str, Stage]
    """A layer behind its path, before its place (1 or 2 channels), by its id; all layers."""
    placed: dict[str, Stage]
    """A layer just before the duck, by its id; all layers."""
    before_duck: dict[str, Stage]
    """A layer before the duck as it is heard: where sections mute it, it is silent there; all layers, by id."""
    layers: dict[str, Stage]
    """A layer after the duck, by its id; all layers, heard or not: where sections mute it, it is silent there."""
    audible: tuple[str, ...]
    """The ids of the layers that are heard."""
    reductions: dict[str, Stage]
    """Gain reduction in dB of each ducker that is on anywhere, shape (frames,), by its id."""
    keys: dict[str, Stage]
    """The sound that each of those duckers follows, before its level."""
    bus_input: Stage
    buses: dict[str, Stage]
    """The sound behind each: 'bus', 'space' where something is sent to it and it is heard, 'shared' where it is on."""
    sends: dict[str, Stage]
    """What is sent to the space, by the address of the layer, the drum or the bus; of those that send."""
    bass: Stage
    """The bass after its bus, and what the space gives back."""
    passed: dict[str, Passed]
    """By address, the steps of every path that are on, splits, and the limiters of the buses; none of a layer that is
    frozen."""
    measured: dict[str, Stage]
    """What is measured once over the whole loop, by the address of its step."""
    frozen: frozenset[str]
    """The ids of the layers whose source and path are not rendered: they are kept as audio."""
    drums: dict[str, Stage]
    """The kick and the triggers as they sound, muted ones too, by what a ducker names them."""
    hits: dict[str, Stage]
    """One hit of each drum, shaped, from its first sample."""
    output: Stage
    """All of the stack; backing is not in it."""
    backing: dict[str, Stage]
    """Each backing track as it is laid, muted ones too, by its address."""

    @property
    def kick(self) -> Stage:
        """The kick as it sounds, muted or not."""
        return self.drums["kick"]


def reductions_in(graph: Graph) -> dict[str, Stage]:
    """The stage of every gain reduction in dB, by the address of the part that makes it."""
    found = {address: each.reduction for address, each in graph.passed.items() if each.reduction is not None}
    return {**found, **{f"duckers/{name}": each for name, each in graph.reductions.items()}}


def added_by(graph: Graph, stack: Stack, address: str) -> Stage:
    """What a step adds to the sound that goes into it, at the level of the layer or bus that it is in.

    Of a container, what it adds to the sum of its bands where nothing is done to them.

    Raises:
        NotFound: there is no such step, or it is off.
    """
    passed, owner = graph.passed.get(address), find(stack, owner_of(address))
    if passed is None or owner is None:
        raise NotFound(f"there is no step at '{address}' that is on")
    return stage(steps.what_is_added, passed.after, passed.before, level_db=owner.level_db, kept=False)


def dearest_layer(graph: Graph, spent: dict[bytes, float]) -> tuple[str, float] | None:
    """(id of the layer that most of a render's time went into, its share of that time), or None if none did.

    What two layers share, such as a source that both take, counts for each.
    """

    def of(top: Stage) -> float:
        seen: dict[bytes, Stage] = {}
        waiting = [top]
        while waiting:
            each = waiting.pop()
            if each.key not in seen:
                seen[each.key] = each
                waiting += each.inputs
        return sum(spent.get(key, 0.0) for key in seen)

    shares = {name: of(graph.layers[name]) for name in graph.audible}
    total = sum(spent.values())
    if not shares or total <= 0.0:
        return None
    dearest = max(shares, key=lambda name: shares[name])
    return dearest, shares[dearest] / total


def clock_of(stack: Stack, *, looped: bool, rate_hz: int | None = None) -> Clock:
    """The time base of a render of the stack, at its own rate unless another is given."""
    rate = rate_hz or stack.sample_rate
    tail = 0.0 if looped else tail_seconds(stack, rate)
    return Clock(stack.tempo_bpm, stack.beats, rate, looped=looped, tail_seconds=tail)


def build(
    stack: Stack,
    clock: Clock,
    load: AssetLoader,
    audition: Audition = WHOLE,
    known: Mapping[str, Stage] = MappingProxyType({}),
) -> Graph:
    """The stages that render the stack on a clock; nothing is computed yet.

    What an audition leaves out is left out of the sums, and of what they go into. Of the same stack it is the same
    graph: what is heard of an edit, its loop and what is measured of it ask one after the other.

    Args:
        known: what is measured once over the whole loop, by the address of its step, where that is known already.
    """
    if known:
        return _built(stack, clock, load, audition, known)
    beside = clock, load, audition.as_text()
    return _BUILT.get(lambda: _built(stack, clock, load, audition, known), stack, beside=beside)


def _built(stack: Stack, clock: Clock, load: AssetLoader, audition: Audition, known: Mapping[str, Stage]) -> Graph:
    @cache
    def measured() -> dict[str, Stage]:
        own = build(stack, loop_of(clock), load, audition).measured
        return {**own, **{address: known[address] for address in own if address in known}}

    builder = Builder(stack, clock, load, audition, measured)
    drums = {name: builder.drum(name) for name in stack.drum_names()}
    working = [d for d in stack.duckers if builder.anywhere(f"duckers/{d.id}/on")]
    keys = {d.id: builder.followed_by(d) for d in working}
    reductions = {d.id: builder.reduction(d) for d in working}
    placed = {layer.id: builder.placed(layer) for layer in stack.layers}
    ducked = {layer.id: builder.ducked(placed[layer.id], layer, reductions) for layer in stack.layers}
    gated = {layer.id: builder.gated(ducked[layer.id], f"layers/{layer.id}") for layer in stack.layers}
    layers = {name: replace(each, lasting=True) for name, each in gated.items()}
    audible = tuple(layer.id for layer in audition.layers(stack))
    bus_input = builder.mixed([layers[name] for name in audible])
    buses = {"bus": builder.bus(bus_input)}
    heard = {"bass": buses["bus"], **{name: drums[name] for name in audition.drums(stack)}}
    sounds = {"bus": buses["bus"], **{f"layers/{name}": layers[name] for name in audible}}
    sounds |= {stack.drum_owner(name): drums[name] for name in audition.drums(stack)}
    sent = {owner: builder.sent(sounds[owner], owner) for owner in stack.senders() if owner in sounds}
    sends = {owner: each for owner, each in sent.items() if each is not None}
    if stack.senders() and audition.space(stack):
        buses["space"] = heard["space"] = builder.space([*sends.values()])
    if audition.space_alone(stack):
        heard = {name: each for name, each in heard.items() if name == "space"}
    behind = [heard[name] for name in ("bass", "space") if name in heard]
    bass = behind[0] if len(behind) == 1 else builder.mixed(behind)
    if builder.anywhere("shared/on"):
        both = [heard.pop(name) for name in ("bass", "space", "kick") if name in heard]
        buses["shared"] = builder.shared(builder.mixed(both))
        heard = {"both": buses["shared"], **heard}
    return Graph(
        clock=clock,
        sources={layer.id: builder.source(layer) for layer in stack.layers},
        shaped={layer.id: builder.shaped(layer) for layer in stack.layers},
        placed=placed,
        before_duck={name: builder.gated(each, f"layers/{name}") for name, each in placed.items()},
        layers=layers,
        audible=audible,
        reductions=reductions,
        keys=keys,
        bus_input=bus_input,
        buses=buses,
        sends=sends,
        bass=bass,
        passed=rendered(builder),
        measured={each: made.measured for each, made in builder.passed.items() if made.measured is not None},
        frozen=frozenset(builder.frozen),
        drums=drums,
        hits=builder.hits,
        output=builder.mixed(list(heard.values())),
        backing={f"backing/{track.id}": builder.backing(track) for track in stack.backing},
    )
