"""What a page hears, in words; other places; casts."""

from __future__ import annotations

import json
import secrets
from dataclasses import asdict
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response
from pydantic import Field

from apilado.actions import casting
from apilado.actions.listening import base_of
from apilado.core.document.differences import differences, whole
from apilado.core.measure.bands import band_centres
from apilado.core.measure.blind import MOST_TRIALS, chance_of_guessing, drawn_order
from apilado.core.measure.passage import ROWS_PER_OCTAVE
from apilado.core.parameters import Model
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.soundings.elsewhere import left_elsewhere
from apilado.core.soundings.measures import measure
from apilado.core.soundings.now import LOWEST_DB, STEPS_PER_DB, now
from apilado.errors import NotFound
from apilado.web.drawings.places_view import places_view
from apilado.web.drawings.view import LEVEL_HIGH_DB, LEVEL_LOW_DB, View
from apilado.web.hearing_words import hearing_words
from apilado.web.pages import page
from apilado.web.routes.common import workspace_of
from apilado.web.routes.heavy import heavy

router = APIRouter(prefix="/stacks/{stack_id}")
MOST_DIFFERENCES = 60
SIXTH_OVER_TWELFTH_DB = 3.01


class HearingRequest(Model):
    """What a page hears."""

    heard: Audition = WHOLE


@router.post("/hearing")
def hearing(request: Request, stack_id: int, posted: HearingRequest) -> dict[str, Any]:
    """The line that tells what is heard."""
    workspace = workspace_of(request)
    _, stack = base_of(workspace, stack_id, posted.heard)
    names = {cast.id: cast.name for cast in workspace.casts.listed(stack_id)} if posted.heard.cast else {}
    words = hearing_words(stack, posted.heard, names.get(posted.heard.cast, ""))
    return {"words": [asdict(word) for word in words]}


@router.get("/elsewhere")
@heavy
def elsewhere(request: Request, stack_id: int, client: str = "") -> HTMLResponse:
    """What other systems leave of each layer, as small piles side by side."""
    workspace = workspace_of(request)
    stack = workspace.stacks.head(stack_id).stack
    measures = measure(stack, workspace.load, workspace.engine, workspace.newest("elsewhere", stack_id, client[:80]))
    view = places_view(measures, left_elsewhere(measures)) if measures.stems else None
    return HTMLResponse(page(request, "_partials/elsewhere.html", view=view))


@router.get("/now")
@heavy
def now_by_moment(request: Request, stack_id: int, client: str = "") -> Response:
    """What sounds at each moment: the length of a head in four bytes, the head as JSON, then bytes.

    For each part, its level and its spectrum by moment; for each that takes gain, what it takes; loudness; crest.
    """
    workspace = workspace_of(request)
    stack = workspace.stacks.head(stack_id).stack
    token = workspace.newest("now", stack_id, client[:80], behind=True)
    measures = measure(stack, workspace.load, workspace.engine, token)
    found = now(measures)
    centres = band_centres(ROWS_PER_OCTAVE)
    head = {
        "moments": found.moments,
        "rows": len(centres),
        "parts": list(found.levels),
        "taken": list(found.reductions),
        "lowest": LOWEST_DB,
        "steps": STEPS_PER_DB,
        "seconds": measures.clock.frames / measures.clock.rate_hz,
        # A sixth-octave of even noise has twice the power of a twelfth, by which the long-term spectra are drawn.
        "first_db": LEVEL_LOW_DB + SIXTH_OVER_TWELFTH_DB,
        "last_db": LEVEL_HIGH_DB + SIXTH_OVER_TWELFTH_DB,
        "heights": [round(View(height=1000.0).y(float(hertz)) / 1000.0, 5) for hertz in centres],
    }
    told = json.dumps(head).encode()
    parts = [array.tobytes() for name in found.levels for array in (found.levels[name], found.spectra[name])]
    taken = [each.tobytes() for each in (*found.reductions.values(), found.loudness, found.crest)]
    content = len(told).to_bytes(4, "little") + told + b"".join((*parts, *taken))
    return Response(content, media_type="application/octet-stream")


@router.get("/casts")
def casts(request: Request, stack_id: int, opened: int = 0, client: str = "") -> HTMLResponse:
    """The casts of a stack; of one that is opened, what differs."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    listed = workspace.casts.listed(stack_id)
    found, all_of_it = [], None
    if opened in {cast.id for cast in listed}:
        other = workspace.casts.stack(stack_id, opened)
        found, all_of_it = differences(head.stack, other), whole(other)
    shown = {
        "casts": listed,
        "opened": opened,
        "found": found[:MOST_DIFFERENCES],
        "more": len(found[MOST_DIFFERENCES:]),
    }
    return HTMLResponse(page(request, "_partials/casts.html", stack=head.stack, whole=all_of_it, **shown))


class CastRequest(Model):
    """A cast's name, or its line of judgement."""

    name: str | None = Field(default=None, max_length=1000)
    judgement: str | None = Field(default=None, max_length=1000)


def _told(cast: Any) -> dict[str, Any]:
    return {"id": cast.id, "name": cast.name}


@router.post("/casts")
def keep_cast(request: Request, stack_id: int, posted: CastRequest) -> dict[str, Any]:
    """Keeps the stack as it is now."""
    return _told(casting.keep(workspace_of(request), stack_id, posted.name or ""))


@router.post("/casts/{cast_id}")
def change_cast(request: Request, stack_id: int, cast_id: int, posted: CastRequest) -> dict[str, Any]:
    """Another name or judgement."""
    changed = {"name": posted.name, "judgement": posted.judgement}
    return _told(casting.change(workspace_of(request), stack_id, cast_id, **changed))


@router.post("/casts/{cast_id}/remove")
def remove_cast(request: Request, stack_id: int, cast_id: int) -> dict[str, Any]:
    """Takes a cast out of the list."""
    return _told(workspace_of(request).casts.remove(stack_id, cast_id))


@router.post("/casts/{cast_id}/put-back")
def put_back_cast(request: Request, stack_id: int, cast_id: int) -> dict[str, Any]:
    """Puts it back."""
    return _told(workspace_of(request).casts.put_back(stack_id, cast_id))


@router.post("/casts/{cast_id}/open")
def open_cast(request: Request, stack_id: int, cast_id: int) -> dict[str, Any]:
    """A cast as a stack of its own."""
    return {"url": f"/stacks/{casting.open_alone(workspace_of(request), stack_id, cast_id).stack_id}"}


class BlindRequest(Model):
    """A blind comparison so far: its lot, and what was answered."""

    seed: int | None = Field(default=None, ge=0, lt=2**32)
    answers: tuple[bool, ...] = Field(default=(), max_length=MOST_TRIALS)


@router.post("/blind")
def blind(request: Request, stack_id: int, posted: BlindRequest) -> dict[str, Any]:
    """Whether the next sound is the second of the two, and how the answers so far stand."""
    workspace_of(request).stacks.head_id(stack_id)
    if posted.seed is None and posted.answers:
        raise NotFound("answers belong to a comparison that has been begun")
    seed = secrets.randbelow(2**32) if posted.seed is None else posted.seed
    trials = len(posted.answers)
    order = drawn_order(seed, trials + 1)
    right = sum(answer == drawn for answer, drawn in zip(posted.answers, order, strict=False))
    chance = chance_of_guessing(right, trials)
    said = f"{right} of {trials} right. By guessing alone, so many or more come out {_odds(chance)}." if trials else ""
    return {"seed": seed, "second": order[-1], "right": right, "trials": trials, "chance": chance, "said": said}


def _odds(chance: float) -> str:
    if chance >= 0.995:
        return "always"
    return f"{100.0 * chance:.0f} times in 100" if chance >= 0.02 else f"once in {1.0 / chance:.0f} times"
