"""Use case: the loop as one listener hears it, beside others that it is compared with at equal loudness."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from apilado.actions.workspace import Workspace
from apilado.core.clock import Clock
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.measure.loudness import QUIETEST_LKFS, measure_loudness
from apilado.core.measure.matching import Match, matched
from apilado.core.render.audition import Audition
from apilado.core.render.engine import Token
from apilado.core.render.graph import clock_of
from apilado.core.render.listening import Listened, listened
from apilado.core.render.stage import Stage, stage
from apilado.errors import InvalidEdit, NotFound


@dataclass(frozen=True)
class Levels:
    """How loud a sound is, and beside others."""

    loudness_lkfs: float
    """Of its endless repetition."""
    matches: tuple[Match, ...]
    """How it is played beside those it is compared with, then how each of these is."""


@dataclass(frozen=True)
class HeardLoop:
    """A loop as it is heard."""

    revision: int
    clock: Clock
    listened: Listened
    audio: Audio
    """Shape (2, clock.frames); at the level it has, not matched."""
    levels: Levels | None
    """Where it is compared with something: its level is then known before it is played."""


def base_of(workspace: Workspace, stack_id: int, audition: Audition) -> tuple[int, Stack]:
    """(revision, the stack that an audition begins from): as it is now, or a cast of it, at the rate it has now.

    Raises:
        NotFound: there is no such stack, or no such cast of it.
    """
    head = workspace.stacks.head(stack_id)
    if not audition.cast:
        return head.id, head.stack
    kept = workspace.casts.stack(stack_id, audition.cast)
    return head.id, kept.model_copy(update={"sample_rate": head.stack.sample_rate})


def hear_loop(
    workspace: Workspace, stack_id: int, audition: Audition, against: Sequence[Audition], token: Token
) -> HeardLoop:
    """The loop as it is heard, and how loud it is beside others, if there are any.

    Raises:
        NotFound: there is no such stack, or what the audition names is not in it.
        InvalidEdit: the edit that it tries cannot be made.
        Overtaken: something newer is to be heard.
    """
    revision, stack = base_of(workspace, stack_id, audition)
    clock = clock_of(stack, looped=True)
    heard = listened(stack, audition, clock, workspace.load)
    (audio,) = workspace.engine.run([heard.output], token)
    levels = levels_of(workspace, stack_id, audition, against, token) if against else None
    return HeardLoop(revision, clock, heard, audio, levels)


def levels_of(
    workspace: Workspace, stack_id: int, audition: Audition, against: Sequence[Audition], token: Token
) -> Levels:
    """How loud what is heard is, beside others; of those, what has gone is passed over as unmatched.

    Raises:
        NotFound: there is no such stack.
        Overtaken: something newer is to be heard.
    """
    stages = [_loudness_there(workspace, stack_id, each) for each in (audition, *against)]
    found = iter(workspace.engine.run([each for each in stages if each is not None], token))
    levels = [next(found).integrated_lkfs if each is not None else QUIETEST_LKFS for each in stages]
    return Levels(levels[0], tuple(matched(levels)))


def _loudness_there(workspace: Workspace, stack_id: int, audition: Audition) -> Stage | None:
    try:
        _, stack = base_of(workspace, stack_id, audition)
        clock = clock_of(stack, looped=True)
        output = listened(stack, audition, clock, workspace.load).output
        return stage(measure_loudness, output, rate_hz=clock.rate_hz, looped=True)
    except (NotFound, InvalidEdit):
        return None
