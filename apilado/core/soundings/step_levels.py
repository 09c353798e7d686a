"""What is asked of each step of a path: by how much louder it comes out, and what drives in a row leave of the peaks.

The stages alone: they are computed while a layer is measured, before it is let go.
"""

from __future__ import annotations

from apilado.core.clock import Clock
from apilado.core.document.addresses import parted
from apilado.core.document.stack import Stack
from apilado.core.measure.crest import crest_db
from apilado.core.measure.spectrum import mid_and_side
from apilado.core.render import steps
from apilado.core.render.graph import Graph
from apilado.core.render.stage import Stage, stage
from apilado.core.treatments.base import Treatment

LOWEST_HZ, MONO_BORDER_HZ = 20.0, 120.0
OUTPUTS = ("output_db", "makeup_db")
"""What a step that cannot keep the level is turned down by."""


def treatments_heard(stack: Stack, graph: Graph, owner: str) -> dict[str, Treatment]:
    """The treatments of a layer or a bus that are on, by their addresses, in the order of its path."""
    return {
        address: step
        for address, step in stack.steps_of(owner).items()
        if isinstance(step, Treatment) and step.on and address in graph.passed
    }


def kept_by(step: Treatment) -> str:
    """The value of a step by which its level is kept; '' where its level is what it is for."""
    return next((name for name in ("keep_level", *OUTPUTS) if name in type(step).model_fields), "")


def jump_stages(stack: Stack, graph: Graph, clock: Clock, owner: str) -> dict[str, Stage]:
    """Of steps that say how loud they come out: the gain that would make that as loud as what goes in, by address."""
    found = {}
    for address, step in treatments_heard(stack, graph, owner).items():
        if kept_by(step):
            passed = graph.passed[address]
            # What comes out of one step goes into the next: it is asked once.
            powers = [
                stage(steps.weighted_power, each, rate_hz=clock.rate_hz) for each in (passed.before, passed.after)
            ]
            found[address] = stage(steps.level_gain, *powers)
    return found


def drives_in(stack: Stack, graph: Graph, owner: str) -> dict[str, list[str]]:
    """The addresses of the drives of each path that has more than one, by the address of what has the path."""
    found: dict[str, list[str]] = {}
    for address, step in treatments_heard(stack, graph, owner).items():
        if step.has_curve:
            found.setdefault(parted(parted(address)[0])[0], []).append(address)
    return {holder: drives for holder, drives in found.items() if len(drives) > 1}


def crest_stages(stack: Stack, graph: Graph, clock: Clock, owner: str) -> dict[str, tuple[Stage, Stage]]:
    """(before the first drive, behind the last) of each path with several of them."""
    passed = graph.passed
    return {
        holder: (
            stage(crest_db, passed[first].before, rate_hz=clock.rate_hz),
            stage(crest_db, passed[last].after, rate_hz=clock.rate_hz),
        )
        for holder, (first, *_, last) in drives_in(stack, graph, owner).items()
    }


def mono_border(stack: Stack) -> float:
    """Below what the bass should be mono, in Hz: the border of its bus, or what is usual."""
    return stack.bus.mono_below_hz or MONO_BORDER_HZ


def low_side_stages(stack: Stack, graph: Graph, clock: Clock, owner: str) -> dict[str, tuple[Stage, Stage]]:
    """(mid, side) of what lies below the mono border before and behind each step that may widen, by address."""
    border, found = mono_border(stack), {}
    for address, step in treatments_heard(stack, graph, owner).items():
        if step.widens:
            passed = graph.passed[address]
            before, after = (
                stage(mid_and_side, each, low_hz=LOWEST_HZ, high_hz=border, rate_hz=clock.rate_hz)
                for each in (passed.before, passed.after)
            )
            found[address] = before, after
    return found


def step_stages(stack: Stack, graph: Graph, clock: Clock, owner: str) -> list[Stage]:
    """All that is asked of the steps of a layer or a bus."""
    crests = crest_stages(stack, graph, clock, owner).values()
    pairs = [*crests, *low_side_stages(stack, graph, clock, owner).values()]
    return [*jump_stages(stack, graph, clock, owner).values(), *[each for pair in pairs for each in pair]]
