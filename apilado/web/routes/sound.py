"""Sound for the player."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from time import perf_counter
from typing import Any
from urllib.parse import quote

import numpy as np
from fastapi import APIRouter, Query, Request
from fastapi.responses import Response
from pydantic import Field

from apilado.actions.hearing import Heard, hear_stretch
from apilado.actions.listening import Levels, hear_loop, levels_of
from apilado.actions.sent import BLOCK_FRAMES
from apilado.actions.stems import stems_around
from apilado.actions.tapping import LONGEST_S, release_ms_of, tap
from apilado.actions.workspace import LoopHeard
from apilado.core.document.stack import Stack
from apilado.core.parameters import Model
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.engine import Token
from apilado.core.render.graph import Graph, dearest_layer
from apilado.errors import Overtaken
from apilado.web.routes.common import workspace_of

SLOW_S = 2.0
"""A render that takes longer is told."""
MOSTLY = 0.5
OWN = "own"
"""The slot of the loop that edits are made on; what is lent for a moment and casts have others."""
MOST_COMPARED = 24

PARTS = "application/x-apilado-parts"
"""Several parts one behind the other, each as `answer_part` makes it."""

router = APIRouter(prefix="/stacks/{stack_id}")


class LoopRequest(Model):
    """What a page wants to hear."""

    client: str = Field(default="", max_length=80)
    slot: str = Field(default="own", max_length=40, description="Which of the sounds that the page holds it is")
    known: int | None = Field(default=None, description="Number of the last loop it was sent for this; 0: none")
    heard: Audition = WHOLE
    against: tuple[Audition, ...] = Field(default=(), max_length=MOST_COMPARED, description="What it is compared with")


@router.post("/loop")
def loop(request: Request, stack_id: int, posted: LoopRequest) -> Response:
    """The loop as a listener hears it: raw little-endian float32, the left channel, then the right.

    To a page that says what it was sent last, by its number or 0, only the blocks that have changed since are sent. It
    comes at the level it has. Beside what it is compared with, X-Levels says what `levels` would.
    """
    workspace, begun = workspace_of(request), perf_counter()
    token = workspace.newest(f"loop {posted.slot}", stack_id, posted.client)
    found = hear_loop(workspace, stack_id, posted.heard, posted.against, token)
    if posted.slot == OWN:
        workspace.heard[stack_id] = LoopHeard(found.listened.graph, found.revision)
    headers = {
        "X-Revision": str(found.revision),
        "X-Frames": str(found.clock.frames),
        "X-Rate": str(found.clock.rate_hz),
        "X-Beats": repr(found.clock.beats),
    }
    if found.levels is not None:
        headers["X-Levels"] = json.dumps(told(found.levels))
    if said := slow_in_words(found.listened.stack, found.listened.graph, token, perf_counter() - begun):
        headers["X-Slow"] = quote(said)
    audio = found.audio
    if posted.known is None:
        content = audio.astype("<f4", copy=False).tobytes()
    else:
        number, blocks = workspace.sent.changed((posted.client, posted.slot), posted.known, audio)
        headers |= {"X-Number": str(number), "X-Block": str(BLOCK_FRAMES), "X-Blocks": ",".join(map(str, blocks))}
        cut = [audio[:, BLOCK_FRAMES * index : BLOCK_FRAMES * (index + 1)] for index in blocks]
        content = b"".join(np.ascontiguousarray(each, "<f4").tobytes() for each in cut)
    return Response(content, media_type="application/octet-stream", headers=headers)


@router.post("/levels")
def levels(request: Request, stack_id: int, posted: LoopRequest) -> dict[str, Any]:
    """How loud what is heard is, and by how much it, then each that it is compared with, is turned down beside them."""
    workspace = workspace_of(request)
    token = workspace.newest(f"levels {posted.slot}", stack_id, posted.client)
    return told(levels_of(workspace, stack_id, posted.heard, posted.against, token))


def told(found: Levels) -> dict[str, Any]:
    """Levels as a page reads them."""
    matches = [[round(each.gain_db, 3), each.matched] for each in found.matches]
    return {"loudness": found.loudness_lkfs, "matches": matches}


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


class Playhead(Model):
    """Where a loop is being played."""

    place: int = Field(ge=0, description="Frame of the loop")
    length: int = Field(gt=0, description="Frames of the loop")
    came: float | None = Field(default=None, ge=0.0, le=60.0, description="Seconds until the last stretch was there")


def answer_part(head: dict[str, Any], content: bytes = b"") -> bytes:
    """One part of an answer in several: the length of its head in four bytes, the head as JSON, its content."""
    told = json.dumps({**head, "bytes": len(content)}).encode()
    return len(told).to_bytes(4, "little") + told + content


def stretch_parts(pieces: Iterable[Heard], revision: int, begun: float) -> Iterator[bytes]:
    """The pieces of a stretch as parts of an answer.

    Args:
        begun: when it was begun, by `perf_counter`.
    """
    for found in pieces:
        head = {
            "revision": revision,
            "rate": found.rate_hz,
            "begins": found.begins,
            "length": found.length,
            "frames": found.audio.shape[1],
            "more": found.more,
            "ms": round(1000.0 * (perf_counter() - begun), 1),
        }
        yield answer_part(head, found.audio.astype("<f4", copy=False).tobytes())


class StretchRequest(Playhead):
    """What of a loop a page wants to hear first."""

    client: str = Field(default="", max_length=80)
    heard: Audition = WHOLE
    further: bool = Field(default=False, description="Whether another one is heard already")


@router.post("/stems")
def stems(request: Request, stack_id: int, posted: StretchRequest) -> Response:
    """The stems of the loop around the playhead, each a part of the answer; nothing where they are not at hand."""
    workspace = workspace_of(request)
    token = workspace.newest("stems", stack_id, posted.client)
    found = stems_around(workspace, stack_id, posted.place, posted.length, token)
    if found is None:
        return Response(b"", media_type=PARTS)
    head = {
        "revision": found.revision,
        "begins": found.begins,
        "length": found.length,
        "rate": found.rate_hz,
        "frames": found.gain.shape[0],
    }
    parts = [answer_part({**head, "gain": True}, found.gain.astype("<f4", copy=False).tobytes())]
    for through_bus, sounds in ((True, found.layers), (False, found.others)):
        for owner, audio in sounds.items():
            told_of_it = {"owner": owner, "bus": through_bus}
            parts.append(answer_part(told_of_it, audio.astype("<f4", copy=False).tobytes()))
    return Response(b"".join(parts), media_type=PARTS)


@router.post("/stretch")
def stretch(request: Request, stack_id: int, posted: StretchRequest) -> Response:
    """A stretch of the loop from the playhead on, as a part of an answer; nothing where the loop is as quick."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    token = workspace.newest("further" if posted.further else "stretch", stack_id, posted.client)
    if not posted.further:
        workspace.overtake("further", stack_id, posted.client)
    asked = (workspace, stack_id, head.stack, posted.place, posted.length, token, posted.heard)
    begun, pieces = perf_counter(), hear_stretch(*asked, further=posted.further, came=posted.came)
    try:
        found = b"".join(stretch_parts(pieces, head.id, begun))
    except Overtaken:
        found = b""
    return Response(found, media_type=PARTS)
