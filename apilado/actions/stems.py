"""Use case: stems around the playhead, from which a page mixes what is soloed or muted before it has been rendered."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.actions.workspace import Workspace
from apilado.core.document.addresses import within
from apilado.core.document.path import Equaliser
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio, as_stereo
from apilado.core.render.builder import Builder
from apilado.core.render.engine import Token
from apilado.core.render.stretch import NotAtOnce, stretch_of

AHEAD_S, BEHIND_S = 2.0, 0.05
"""How much of the loop is given: from a little before the playhead on."""
GAIN_WINDOW_S = 0.005
SILENT_POWER = 1e-10


@dataclass(frozen=True)
class Stems:
    """A stretch of a loop, part by part."""

    revision: int
    """Of the stack that they are of."""
    begins: int
    """Frames from the loop's start."""
    length: int
    """Frames of the loop."""
    rate_hz: int
    layers: dict[str, Audio]
    """Of each layer, behind what its bus does to it whatever else is heard: shape (2, frames), by its address."""
    others: dict[str, Audio]
    """The drums, the space and the backing, by their addresses."""
    gain: NDArray[np.float32]
    """What else the bus does to the sum of the layers that are heard now: shape (frames,)."""


def stems_around(workspace: Workspace, stack_id: int, place: int, length: int, token: Token) -> Stems | None:
    """The stems of the loop that a stack was heard by last; None where that is not as long, not at hand, or of an
    earlier revision.

    Only what the bus makes of each layer alone is rendered for it, and of that two seconds: what a page wants at once
    must not make what it hears wait. Where bass and kick go through a bus of their own there are none.

    Raises:
        Overtaken: something newer is wanted.
    """
    last, head = workspace.heard.get(stack_id), workspace.stacks.head(stack_id)
    if last is None or last.revision != head.id:
        return None
    graph, stack = last.graph, head.stack
    if graph.clock.loop_frames != length or "shared" in graph.buses:
        return None
    engine, clock = workspace.engine, graph.clock
    begins = (place - round(BEHIND_S * clock.rate_hz)) % length
    frames = min(length, round((AHEAD_S + BEHIND_S) * clock.rate_hz))
    alone = Builder(_linear_bus(stack), clock, workspace.load)
    others = {Stack.drum_owner(name): each for name, each in graph.drums.items()} | graph.backing
    others |= {"space": graph.buses["space"]} if "space" in graph.buses else {}
    layers = {f"layers/{name}": each for name, each in graph.layers.items() if engine.holds(each)}
    others = {owner: each for owner, each in others.items() if engine.holds(each)}
    if not engine.holds(graph.buses["bus"]) or not engine.holds(graph.bus_input):
        return None
    through = {owner: alone.bus(each) for owner, each in layers.items()}
    wanted = [*through.values(), *others.values(), alone.bus(graph.bus_input), graph.buses["bus"]]
    try:
        found = engine.run(stretch_of(wanted, clock, begins, frames, engine.holds), token)
    except NotAtOnce:
        return None
    *parts, before, after = (as_stereo(each) for each in found)
    return Stems(
        head.id,
        begins,
        length,
        clock.rate_hz,
        dict(zip(through, parts, strict=False)),
        dict(zip(others, parts[len(through) :], strict=True)),
        bus_gain(before, after, clock.rate_hz),
    )


def _linear_bus(stack: Stack) -> Stack:
    """The stack with a bus that does to each part what it does to it alone: its EQs, its mono border and its level."""
    eqs = tuple(step for step in stack.bus.path if isinstance(step, Equaliser))
    bus = stack.bus.model_copy(update={"path": eqs, "limiter": stack.bus.limiter.model_copy(update={"on": False})})
    sections = tuple(
        each.model_copy(update={"changes": tuple(c for c in each.changes if not within(c.path, "bus/limiter"))})
        for each in stack.sections
    )
    return stack.model_copy(update={"bus": bus, "sections": sections})


def bus_gain(before: Audio, after: Audio, rate_hz: int) -> NDArray[np.float32]:
    """The gain from one sound to another over time, from their power in windows of 5 ms; shape (frames,)."""
    frames = before.shape[1]
    edges = np.arange(0, frames, max(1, round(GAIN_WINDOW_S * rate_hz)))
    powers = [np.add.reduceat(np.sum(np.square(each, dtype=np.float64), axis=0), edges) for each in (before, after)]
    loud = powers[0] > SILENT_POWER
    gains = np.sqrt(np.divide(powers[1], powers[0], out=np.ones_like(powers[0]), where=loud))
    middles = edges + np.diff(np.append(edges, frames)) / 2.0
    known = loud if np.any(loud) else np.ones_like(loud)
    return np.asarray(np.interp(np.arange(frames), middles[known], gains[known]), np.float32)
