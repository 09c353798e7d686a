"""Sound for the player."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import Response

from apilado.core.document.overdo import overdone
from apilado.core.render.graph import build, clock_of
from apilado.web.routes.common import workspace_of

router = APIRouter(prefix="/stacks/{stack_id}")


@router.get("/loop")
def loop(request: Request, stack_id: int, client: str = "", overdo: str = "") -> Response:
    """The loop as raw little-endian float32, the left channel, then the right; with one part overdone if asked."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    token = workspace.newest("overdo" if overdo else "loop", stack_id, client[:80])
    stack = overdone(head.stack, overdo[:200]) if overdo else head.stack
    clock = clock_of(stack, looped=True)
    output = build(stack, clock, workspace.load).output
    audio = workspace.engine.run([output], token)[0]
    headers = {
        "X-Revision": str(head.id),
        "X-Frames": str(clock.frames),
        "X-Rate": str(clock.rate_hz),
        "X-Beats": repr(clock.beats),
    }
    return Response(audio.astype("<f4", copy=False).tobytes(), media_type="application/octet-stream", headers=headers)
