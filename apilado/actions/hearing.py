"""Use case: hearing an edit before the whole loop has been rendered: a stretch of it from the playhead on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import Future
from dataclasses import dataclass
from time import perf_counter
from typing import Any

from apilado.actions.workspace import Workspace
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.engine import Rank, Token
from apilado.core.render.graph import clock_of
from apilado.core.render.last_loop import LastLoop
from apilado.core.render.listening import listened
from apilado.core.render.stretch import MOST_OF_THE_LOOP, NotAtOnce, stretch_of
from apilado.errors import InvalidEdit, NotFound

SHORTEST_S, FIRST_S, LONGEST_S = 0.45, 0.8, 1.2
"""How long a stretch is. All of it is rendered before any of it is heard, so it is short where that is quick; where it
is slow, so long that enough of it is left when it comes. Of a stack of which nothing is known yet, and where one is
heard already, it is as long as the second."""
LEFT_S, TIMES, FORGETS = 0.2, 2.5, 0.7
"""What is to be left of it if it takes that much longer than lately; and how soon a slow one is forgotten."""
SOON_S, SPARE_S = 0.12, 0.1
"""How soon the page asks for a further one at the earliest, and what is to be left when that comes."""
AHEAD_S = 0.01
"""From how far ahead of the playhead a stretch begins: it is rendered and on its way for longer than that."""
QUICK_S, ON_ITS_WAY_S, FOLLOWS, WORTH = 0.045, 0.05, 0.6, 0.7
"""A stretch that takes longer than the first comes in two pieces: it is heard from the first on while the second is
rendered. How much of the first is to be left for the way of the second to the page, and for the fade between them; how
long the second takes, as a share of what the first took to come, where that is not known yet; up to what share of a
stretch it is worth it."""
OVER_S = 0.03
"""So much before the end of the first piece the second begins: the one fades to the other there."""


@dataclass(frozen=True)
class Heard:
    """A piece of a loop: where it begins, in frames from the loop's start, and how long the loop is."""

    audio: Audio
    begins: int
    length: int
    rate_hz: int
    more: bool = False
    """Whether another piece follows at its end."""


class Foreheard:
    """A stretch of a document that is still on its way to the disk: its first piece is rendered meanwhile.

    What is kept in the end is what it was begun with last.
    """

    def __init__(self, workspace: Workspace, pieces_of: Callable[[Stack], Iterator[Heard]]) -> None:
        self._workspace, self._pieces_of = workspace, pieces_of
        self._begun: tuple[Iterator[Heard], Future[Heard | None]] | None = None
        self.began = perf_counter()
        """When the render of it began, by `perf_counter`."""

    def begin(self, stack: Stack) -> None:
        """Begins with the first piece of it."""
        self.began, pieces = perf_counter(), self._pieces_of(stack)
        self._begun = pieces, self._workspace.foreheard.submit(next, pieces, None)

    def pieces(self) -> Iterator[Heard]:
        """All of them; none where nothing was begun.

        Raises:
            Overtaken: something newer is to be heard.
        """
        if self._begun is None:
            return
        pieces, first = self._begun
        found = first.result()
        while found is not None:
            yield found
            found = next(pieces, None)


def length_for(took: float | None, further: float | None = None) -> float:
    """How many seconds long a stretch is to be where one took so many to come; None where none has yet.

    Args:
        further: seconds that a further one takes, which has to come before this one ends.
    """
    if took is None:
        return FIRST_S
    until_the_next = took + SOON_S + (further or 0.0) + SPARE_S
    return min(max(LEFT_S + TIMES * took, until_the_next, SHORTEST_S), LONGEST_S)


def first_piece_for(took: float | None, following: float | None = None) -> float | None:
    """How many seconds long the first piece of a stretch is to be, so that the second is there before it ends even if
    that takes more than twice as long as lately; None where two pieces are not worth it.

    Args:
        took: seconds that the last stretch, or its first piece, took to come; None where there was none yet.
        following: that the second piece took after the first, if there was one.
    """
    if took is None or took <= QUICK_S:
        return None
    first = took + TIMES * (FOLLOWS * took if following is None else following) + ON_ITS_WAY_S
    return first if first <= WORTH * length_for(took) else None


def second_piece_for(first: float, took: float, further: float | None = None) -> float:
    """How many seconds long the second piece is to be.

    Args:
        first: seconds that the first is long.
        took: that it took to come.
        further: that a further stretch took lately, which has to come before this one ends; of this edit it may take
            twice as long as the first piece, for it is longer.
    """
    return length_for(2.0 * took, max(further or 0.0, 2.0 * took)) - first + OVER_S


def slower_of(took: float, before: float | None) -> float:
    """The pace after a stretch that took so many seconds: a slow one is forgotten by and by."""
    return max(took, FORGETS * (before or 0.0))


def hear_stretch(
    workspace: Workspace,
    stack_id: int,
    stack: Stack,
    place: int,
    length: int,
    token: Token,
    audition: Audition = WHOLE,
    *,
    further: bool = False,
    came: float | None = None,
    in_pieces: bool = False,
) -> Iterator[Heard]:
    """What a stack sounds like from just ahead of the playhead, for half a second to a second.

    Args:
        place: frame of the loop at which the playhead is.
        length: frames of the loop that is being played.
        further: another one is heard already, and the whole loop is being rendered beside it.
        came: seconds from asking for the last one of its kind until it was with the page, if that is known.
        in_pieces: whether it may come in two, the first of them as soon as can be.

    Yields:
        It, or its pieces, each as soon as it is there. Nothing where the whole loop is as quick: it is short, of
        another length now, or a part can only be made whole; or where something of the audition is not there.

    Raises:
        Overtaken: something newer is to be heard.
    """
    began, clock = perf_counter(), clock_of(stack, looped=True)
    token.check()
    if clock.loop_frames != length:
        return
    try:
        with workspace.engine.going_first(Rank.SOON):
            output = listened(stack, audition, clock, workspace.load).output
    except (NotFound, InvalidEdit):
        return
    token.check()
    before = workspace.heard.get(stack_id)
    last = LastLoop(workspace.engine, before.graph if before else None, clock)
    known: dict[str, Any] = {
        "held": last.held,
        "went_in": last.went_in,
        "came_out": last.came_out,
        "most": MOST_OF_THE_LOOP,
    }
    kind, began_with = ("further" if further else "first"), began
    paces = {name: workspace.paces.get((stack_id, name)) for name in ("first", "next", "further")}
    if came is not None:
        paces[kind] = slower_of(came, paces[kind])
    whole = max(length_for(paces[kind]), FIRST_S) if further else length_for(paces["first"], paces["further"])
    piece = first_piece_for(paces["first"], paces["next"]) if in_pieces else None
    seconds = piece or whole
    begins = (place + round(AHEAD_S * clock.rate_hz)) % length
    for name in (kind, "next") if piece else (kind,):
        frames = round(seconds * clock.rate_hz)
        try:
            with workspace.engine.going_first(Rank.SOON):
                target = stretch_of([output], clock, begins, frames, workspace.engine.holds, **known)
        except NotAtOnce:
            return
        token.check()
        (audio,) = workspace.engine.run(target, token, soon=True)
        workspace.paces[stack_id, name] = slower_of(perf_counter() - began, paces[name])
        yield Heard(audio, begins, length, clock.rate_hz, more=piece is not None and name == kind)
        began, begins = perf_counter(), (begins + frames - round(OVER_S * clock.rate_hz)) % length
        seconds = second_piece_for(seconds, max(began - began_with, paces["first"] or 0.0), paces["further"])
