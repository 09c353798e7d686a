"""Sound for the player."""

from __future__ import annotations

import json
from time import perf_counter
from typing import Any
from urllib.parse import quote

import numpy as np
from fastapi import APIRouter, Depends, Query, Request
from fastapi.responses import Response
from pydantic import Field

from apilado.actions.hearing import hear_stretch
from apilado.actions.sent import BLOCK_FRAMES
from apilado.actions.tapping import LONGEST_S, release_ms_of, tap
from apilado.actions.workspace import Workspace
from apilado.core.document.edits import InSection, apply, edit_from_data
from apilado.core.document.overdo import overdone
from apilado.core.document.stack import Stack
from apilado.core.parameters import Model
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.engine import Token
from apilado.core.render.graph import Graph, added_by, build, clock_of, dearest_layer
from apilado.errors import Overtaken
from apilado.web.routes.common import audition_of, workspace_of

SLOW_S = 2.0
"""A render that takes longer is told."""
MOSTLY = 0.5

PARTS = "application/x-apilado-parts"
"""Several parts one behind the other, each as `answer_part` makes it."""

router = APIRouter(prefix="/stacks/{stack_id}")


class PreviewRequest(Model):
    """An edit to be heard before it is made."""

    edit: dict[str, Any]
    client: str = Field(default="", max_length=80)
    section: str = Field(default="", max_length=40)
    heard: Audition = WHOLE


@router.post("/preview")
def preview(request: Request, stack_id: int, posted: PreviewRequest) -> Response:
    """The loop as it would be after an edit; nothing is kept."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    edit = edit_from_data(posted.edit)
    goes_in = edit.goes_into(posted.section)
    changed = apply(head.stack, InSection(section=posted.section, edit=edit) if goes_in else edit)
    return sound_of(workspace, head.id, changed, workspace.newest("overdo", stack_id, posted.client), posted.heard)


@router.get("/loop")
def loop(
    request: Request,
    stack_id: int,
    client: str = "",
    overdo: str = "",
    adds: str = "",
    known: int | None = None,
    heard: Audition = Depends(audition_of),  # noqa: B008
) -> Response:
    """The loop as raw little-endian float32, the left channel, then the right; with one part overdone if asked, or what
    one step adds, or some parts alone.

    To a page that says what it was sent last, by its number or 0, only the blocks that have changed since are sent.
    """
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    held = bool(overdo or adds)
    token = workspace.newest("overdo" if held else "loop", stack_id, client[:80])
    stack = overdone(head.stack, overdo[:200]) if overdo else head.stack
    if held or known is None:
        return sound_of(workspace, head.id, stack, token, heard, None if held else stack_id, adds=adds[:200])
    return sound_of(workspace, head.id, stack, token, heard, stack_id, (client[:80], known))


@router.get("/tap")
def tapped(
    request: Request,
    stack_id: int,
    pitch: int = Query(ge=0, le=127),
    velocity: int = Query(default=100, ge=1, le=127),
    layer: str = Query(default="", max_length=40),
    seconds: float = Query(default=LONGEST_S, gt=0.0, le=LONGEST_S),
) -> Response:
    """The first seconds of one note, held: raw little-endian float32, the left channel, then the right."""
    workspace = workspace_of(request)
    stack = workspace.stacks.head(stack_id).stack
    audio = tap(workspace, stack_id, stack, pitch=pitch, velocity=velocity, layer_id=layer, seconds=seconds)
    headers = {
        "X-Frames": str(audio.shape[1]),
        "X-Rate": str(stack.sample_rate),
        "X-Release-Ms": repr(release_ms_of(stack, layer)),
    }
    content = np.ascontiguousarray(audio, "<f4").tobytes()
    return Response(content, media_type="application/octet-stream", headers=headers)


def slow_in_words(stack: Stack, graph: Graph, token: Token, seconds: float) -> str:
    """That a render took long, and what for; '' where it did not."""
    found = dearest_layer(graph, token.spent)
    if seconds < SLOW_S or found is None:
        return ""
    layer, share = stack.layer(found[0]), found[1]
    most = f", mostly for {layer.name}" if layer and share >= MOSTLY else ""
    return f"rendered in {seconds:.0f} s{most}"


def sound_of(
    workspace: Workspace,
    revision: int,
    stack: Stack,
    token: Token,
    heard: Audition,
    kept_for: int | None = None,
    page: tuple[str, int] | None = None,
    adds: str = "",
) -> Response:
    """The loop of a stack as a listener hears it, as an answer.

    Args:
        kept_for: the number of the stack whose own loop it is: stretches go on from it.
        page: (client, the number of what it was sent last) of a page that is sent what has changed alone.
        adds: the address of a step: only what it adds.
    """
    clock = clock_of(stack, looped=True)
    graph, begun = build(stack, clock, workspace.load, heard), perf_counter()
    audio = workspace.engine.run([added_by(graph, stack, adds) if adds else graph.output], token)[0]
    if kept_for is not None:
        workspace.heard[kept_for] = graph
    headers = {
        "X-Revision": str(revision),
        "X-Frames": str(clock.frames),
        "X-Rate": str(clock.rate_hz),
        "X-Beats": repr(clock.beats),
    }
    if said := slow_in_words(stack, graph, token, perf_counter() - begun):
        headers["X-Slow"] = quote(said)
    if page is None:
        content = audio.astype("<f4", copy=False).tobytes()
    else:
        number, blocks = workspace.sent.changed(page[0], page[1], audio)
        headers |= {"X-Number": str(number), "X-Block": str(BLOCK_FRAMES), "X-Blocks": ",".join(map(str, blocks))}
        cut = [audio[:, BLOCK_FRAMES * index : BLOCK_FRAMES * (index + 1)] for index in blocks]
        content = b"".join(np.ascontiguousarray(each, "<f4").tobytes() for each in cut)
    return Response(content, media_type="application/octet-stream", headers=headers)


class Playhead(Model):
    """Where a loop is being played."""

    place: int = Field(ge=0, description="Frame of the loop")
    length: int = Field(gt=0, description="Frames of the loop")


def answer_part(head: dict[str, Any], content: bytes = b"") -> bytes:
    """One part of an answer in several: the length of its head in four bytes, the head as JSON, its content."""
    told = json.dumps({**head, "bytes": len(content)}).encode()
    return len(told).to_bytes(4, "little") + told + content


def stretch_part(
    workspace: Workspace, stack_id: int, revision: int, stack: Stack, playhead: Playhead, client: str, heard: Audition
) -> bytes | None:
    """A stretch of the stack from the playhead on as a part of an answer; None where the loop is to be waited for.

    Raises:
        Overtaken: the page has asked for another one since.
    """
    begun, token = perf_counter(), workspace.newest("stretch", stack_id, client)
    found = hear_stretch(workspace, stack_id, stack, playhead.place, playhead.length, token, heard)
    if found is None:
        return None
    head = {
        "revision": revision,
        "rate": found.rate_hz,
        "begins": found.begins,
        "length": found.length,
        "frames": found.audio.shape[1],
        "ms": round(1000.0 * (perf_counter() - begun), 1),
    }
    return answer_part(head, found.audio.astype("<f4", copy=False).tobytes())


@router.get("/stretch")
def stretch(
    request: Request,
    stack_id: int,
    place: int,
    length: int,
    client: str = "",
    heard: Audition = Depends(audition_of),  # noqa: B008
) -> Response:
    """A stretch of the loop from the playhead on, as a part of an answer; nothing where the loop is as quick."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    at = Playhead(place=place, length=length)
    try:
        found = stretch_part(workspace, stack_id, head.id, head.stack, at, client[:80], heard)
    except Overtaken:
        found = None
    return Response(found or b"", media_type=PARTS)
