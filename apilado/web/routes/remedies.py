"""Remedies: tried out behind what is heard, one finding at a time; and a plan that mends all."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from anyio import to_thread
from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse
from pydantic import Field

from apilado.core.parameters import Model
from apilado.core.soundings.remedies import Trial, found_in
from apilado.errors import NotFound, Overtaken
from apilado.web.pages import page
from apilado.web.routes.common import workspace_of
from apilado.web.routes.heavy import heavy, heavy_limiter

router = APIRouter(prefix="/stacks/{stack_id}")


class RemedyRequest(Model):
    """Which finding a remedy is asked for."""

    client: str = Field(default="", max_length=80)
    finding: tuple[str, ...] = Field(min_length=2, max_length=20)


@router.post("/remedy")
@heavy
def remedy(request: Request, stack_id: int, posted: RemedyRequest) -> dict[str, Any]:
    """The remedy of one finding, tried; or why there is none."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    token = workspace.newest("remedy", stack_id, posted.client, behind=True)
    measures = workspace.workbench.measured(head.stack, token)
    before = found_in(measures)
    own = next((each for each in before.soundings if each.key == posted.finding), None)
    if own is None:
        raise NotFound("this finding is gone")
    verdict = workspace.workbench.verdict(measures, before, own, token)
    html = page(request, "_partials/remedy.html", verdict=verdict, stack=head.stack)
    return {"revision": head.id, "remedy": html}


class PauseRequest(Model):
    """Which page leaves off."""

    client: str = Field(default="", max_length=80)


@router.post("/pause", status_code=204)
def pause(request: Request, stack_id: int, posted: PauseRequest) -> None:
    """Leaves off trying remedies for a page: a hand is about to edit."""
    workspace_of(request).newest("remedy", stack_id, posted.client).overtake()


@router.get("/mending")
async def mending(request: Request, stack_id: int, client: str = "") -> StreamingResponse:
    """The plan that mends all, told as it is made: a line of JSON for each remedy found, then one for the whole."""
    workspace = workspace_of(request)
    head = await to_thread.run_sync(workspace.stacks.head, stack_id)
    token = workspace.newest("mending", stack_id, client[:80], behind=True)
    told: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue()
    loop = asyncio.get_running_loop()

    def tell(line: dict[str, Any] | None) -> None:
        loop.call_soon_threadsafe(told.put_nowait, line)

    def work() -> None:
        def found(step: Trial) -> None:
            tell({"step": step.title, "sentence": step.sentence})

        try:
            plan = workspace.workbench.plan(head.stack, token, found)
            html = page(request, "_partials/mending.html", plan=plan, stack=head.stack)
            tell({"revision": head.id, "plan": html})
        except Overtaken:
            tell({"overtaken": True})
        except Exception:
            tell({"error": "The plan could not be made; the program's log says why."})
            raise
        finally:
            tell(None)

    async def lines() -> AsyncIterator[str]:
        working = asyncio.ensure_future(to_thread.run_sync(work, limiter=heavy_limiter(request)))
        try:
            while (line := await told.get()) is not None:
                yield json.dumps(line, ensure_ascii=False) + "\n"
            await working
        finally:
            token.overtake()  # whoever asked has gone: it is of no use any more

    return StreamingResponse(lines(), media_type="application/x-ndjson")
