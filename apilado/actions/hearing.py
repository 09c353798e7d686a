"""Use case: hearing an edit before the whole loop has been rendered: a stretch of it from the playhead on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from apilado.actions.workspace import Workspace
from apilado.core.clock import Clock
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.engine import Token
from apilado.core.render.graph import build, clock_of, measured_in, reductions_in
from apilado.core.render.stage import Stage
from apilado.core.render.stretch import MOST_OF_THE_LOOP, Held, NotAtOnce, WentIn, stretch_of

STRETCH_S = 0.8
AHEAD_S = 0.01
"""From how far ahead of the playhead a stretch begins: it is rendered and on its way for longer than that."""


@dataclass(frozen=True)
class Heard:
    """A piece of a loop: where it begins, in frames from the loop's start, and how long the loop is."""

    audio: Audio
    begins: int
    length: int
    rate_hz: int


def held_in(workspace: Workspace, stack_id: int) -> Held:
    """Gives the gain reduction of a part at a frame of the last whole loop of a stack, if it is known.

    Of what is measured once over the whole loop, that.
    """
    before = workspace.heard.get(stack_id)
    reductions = reductions_in(before) if before is not None else {}
    measured = measured_in(before) if before is not None else {}

    def held(where: str, frame: int) -> Any:
        if where in measured:
            return workspace.engine.at_hand(measured[where])
        found = workspace.engine.at_hand(reductions[where]) if where in reductions else None
        return None if found is None else float(found[frame % found.shape[-1]])

    return held


def went_in_before(workspace: Workspace, stack_id: int, clock: Clock) -> WentIn:
    """Gives what went into a step in the last whole loop of a stack, if that was as long and is at hand."""
    before = workspace.heard.get(stack_id)
    alike = before is not None and before.clock.loop_frames == clock.loop_frames

    def went_in(where: str) -> Stage | None:
        passed = before.passed.get(where) if before is not None and alike else None
        return passed.before if passed is not None and workspace.engine.holds(passed.before) else None

    return went_in


def hear_stretch(
    workspace: Workspace, stack_id: int, stack: Stack, place: int, length: int, token: Token, heard: Audition = WHOLE
) -> Heard | None:
    """What a stack sounds like from just ahead of the playhead, for about a second.

    Args:
        place: frame of the loop at which the playhead is.
        length: frames of the loop that is being played.

    Returns:
        None where the whole loop is as quick: it is short, of another length now, or a part can only be made whole.

    Raises:
        Overtaken: something newer is to be heard.
    """
    clock = clock_of(stack, looped=True)
    if clock.loop_frames != length:
        return None
    graph = build(stack, clock, workspace.load, heard)
    begins = (place + round(AHEAD_S * clock.rate_hz)) % length
    frames = round(STRETCH_S * clock.rate_hz)
    known: dict[str, Any] = {"held": held_in(workspace, stack_id), "most": MOST_OF_THE_LOOP}
    known["went_in"] = went_in_before(workspace, stack_id, clock)
    try:
        target = stretch_of([graph.output], clock, begins, frames, workspace.engine.holds, **known)
    except NotAtOnce:
        return None
    (audio,) = workspace.engine.run(target, token)
    return Heard(audio, begins, length, clock.rate_hz)
