"""The sound that a listener hears: the stack that an audition chooses, what it hears of it, and where.

Nothing here goes into a measurement, a sounding or a delivery: these take a stack, and no audition.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import cast

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.addresses import find, owner_of, parted
from apilado.core.document.edits import AnyEdit, InSection, apply, edit_from_data
from apilado.core.document.layer import Layer
from apilado.core.document.overdo import overdone
from apilado.core.document.stack import Stack
from apilado.core.document.without import is_left_out, without
from apilado.core.render import steps
from apilado.core.render.audition import Audition
from apilado.core.render.builder import summed
from apilado.core.render.elsewhere import heard_at, place_of
from apilado.core.render.freezing import thawed
from apilado.core.render.graph import Graph, added_by, build
from apilado.core.render.stage import Stage, stage
from apilado.core.sources.take import NO_NOTES, TakeSource
from apilado.errors import NotFound


@dataclass(frozen=True)
class Listened:
    """What is heard, and what it is made of."""

    stack: Stack
    graph: Graph
    output: Stage
    """Shape (2, clock.frames)."""


def stack_for(stack: Stack, audition: Audition) -> Stack:
    """The stack that is heard, where an edit is tried, a part is overdone or left out.

    Raises:
        InvalidEdit: the edit cannot be made.
        NotFound: what is to be overdone or left out is not there.
    """
    if audition.trial is not None:
        edit = edit_from_data(audition.trial)
        goes_in = edit.goes_into(audition.section)
        stack = apply(stack, InSection(section=audition.section, edit=cast(AnyEdit, edit)) if goes_in else edit)
    if audition.overdo:
        stack = overdone(stack, audition.overdo)
    if audition.only:
        stack = thawed(stack, parted(owner_of(audition.only))[1])  # what one step makes has to be rendered
    return without(stack, audition.without) if audition.without else stack


def listened(stack: Stack, audition: Audition, clock: Clock, load: AssetLoader) -> Listened:
    """What is heard of a stack; nothing is computed yet.

    Raises:
        NotFound: a part or a place that the audition names is not there.
    """
    heard = stack_for(stack, audition)
    graph = build(heard, clock, load, audition)
    output = _only(heard, graph, audition, clock, load) if audition.only else graph.output
    if audition.dry and audition.soloed(heard) and not audition.only:
        output = _before_the_buses(heard, graph, audition)
    tracks = [graph.backing[owner] for owner in audition.tracks(heard)]
    output = summed([output, *tracks], clock.frames) if tracks else output
    if audition.piece:
        output = _piece(heard, clock, load)
    if audition.place:
        output, passed = heard_at(place_of(audition.place), output, heard, clock, load)
        graph = replace(graph, passed={**graph.passed, **passed})
    return Listened(heard, graph, output)


def _piece(stack: Stack, clock: Clock, load: AssetLoader) -> Stage:
    """The finished piece from its place on, as long as the loop.

    Raises:
        NotFound: the stack has none.
    """
    if stack.reference is None:
        raise NotFound("there is no finished piece to hear; bring one under Balance first")
    laid = TakeSource(asset=stack.reference.asset, skip_ms=1000.0 * stack.reference.from_s)
    sound = stage(steps.play_source, source=laid, score=NO_NOTES, clock=clock, context={"load": load})
    return summed([sound], clock.frames)


def _before_the_buses(stack: Stack, graph: Graph, audition: Audition) -> Stage:
    """What is heard alone, summed as it goes into the buses."""
    drums = [graph.drums[name] for name in audition.drums(stack)]
    layers = [graph.layers[name] for name in graph.audible] if not audition.space_alone(stack) else []
    return summed([*layers, *drums], graph.clock.frames)


def _only(stack: Stack, graph: Graph, audition: Audition, clock: Clock, load: AssetLoader) -> Stage:
    """Only what one part makes: what a step adds to what goes into it; of anything else, what it makes of the whole."""
    address = audition.only
    if address in graph.passed:
        return added_by(graph, stack, address)
    part = find(stack, address)
    if isinstance(part, Layer):
        return graph.layers[part.id]
    if part is None or is_left_out(stack, address):
        raise NotFound(f"there is nothing at '{address}' that is on")
    rest = build(without(stack, address), clock, load, audition)
    return stage(steps.what_is_added, graph.output, rest.output, level_db=0.0, kept=False)
