"""Use case: hearing an edit before the whole loop has been rendered: a stretch of it from the playhead on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from apilado.actions.workspace import Workspace
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.engine import Token
from apilado.core.render.graph import clock_of
from apilado.core.render.last_loop import LastLoop
from apilado.core.render.listening import listened
from apilado.core.render.stretch import MOST_OF_THE_LOOP, NotAtOnce, stretch_of
from apilado.errors import InvalidEdit, NotFound

FIRST_S, FURTHER_S = 0.45, 0.8
"""How long a stretch is: that of an edit, which is to be heard soon, and those that follow until the loop has come."""
AHEAD_S = 0.01
"""From how far ahead of the playhead a stretch begins: it is rendered and on its way for longer than that."""


@dataclass(frozen=True)
class Heard:
    """A piece of a loop: where it begins, in frames from the loop's start, and how long the loop is."""

    audio: Audio
    begins: int
    length: int
    rate_hz: int


def hear_stretch(
    workspace: Workspace,
    stack_id: int,
    stack: Stack,
    place: int,
    length: int,
    token: Token,
    audition: Audition = WHOLE,
    *,
    seconds: float = FIRST_S,
) -> Heard | None:
    """What a stack sounds like from just ahead of the playhead, for so many seconds.

    Args:
        place: frame of the loop at which the playhead is.
        length: frames of the loop that is being played.

    Returns:
        None where the whole loop is as quick: it is short, of another length now, or a part can only be made whole; or
        where something of the audition is not there.

    Raises:
        Overtaken: something newer is to be heard.
    """
    clock = clock_of(stack, looped=True)
    if clock.loop_frames != length:
        return None
    try:
        output = listened(stack, audition, clock, workspace.load).output
    except (NotFound, InvalidEdit):
        return None
    begins = (place + round(AHEAD_S * clock.rate_hz)) % length
    frames = round(seconds * clock.rate_hz)
    last = LastLoop(workspace.engine, workspace.heard.get(stack_id), clock)
    known: dict[str, Any] = {"held": last.held, "went_in": last.went_in, "most": MOST_OF_THE_LOOP}
    try:
        target = stretch_of([output], clock, begins, frames, workspace.engine.holds, **known)
    except NotAtOnce:
        return None
    (audio,) = workspace.engine.run(target, token, soon=True)
    return Heard(audio, begins, length, clock.rate_hz)
