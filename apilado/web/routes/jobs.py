"""Jobs: begun, told how far they are, stopped, begun again."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse
from pydantic import Field, ValidationError

from apilado.actions.bouncing import Bounce
from apilado.actions.job_kinds import JOB_KINDS
from apilado.actions.jobs import Job
from apilado.core.document.reading import explain
from apilado.core.parameters import Model, parameters_of
from apilado.core.render.bouncing import Bounced
from apilado.errors import InvalidEdit
from apilado.web.pages import page
from apilado.web.routes.common import jobs_of, workspace_of

router = APIRouter()


class JobRequest(Model):
    """A job that is to begin: its kind, and what it is asked for."""

    kind: str
    wanted: dict[str, Any] = Field(default={})


def told(job: Job) -> dict[str, Any]:
    """A job as a page is told of it."""
    kept = job.kept
    return {
        "id": kept.id,
        "kind": kept.kind,
        "title": kept.title,
        "state": kept.state,
        "said": kept.said,
        "made": kept.made,
        "share": job.share,
        "doing": job.doing,
    }


@router.get("/stacks/{stack_id}/bounce")
def bounce_form(
    request: Request, stack_id: int, layer: str = "", first_bar: int = 0, last_bar: int = 0
) -> HTMLResponse:
    """The choices of a bounce."""
    stack = workspace_of(request).stacks.head(stack_id).stack
    chosen = Bounced(
        what="layers" if stack.layer(layer) else "bus",
        layers=(layer,) if stack.layer(layer) else (),
        first_bar=min(max(0, first_bar), stack.bars),
        last_bar=min(max(0, last_bar), stack.bars),
    )
    then = next(p for p in parameters_of(Bounce) if p.name == "then")
    shown = {"parameters": {p.name: p for p in parameters_of(Bounced)}, "then": then, "chosen": chosen}
    return HTMLResponse(page(request, "_partials/bounce.html", stack=stack, stack_id=stack_id, **shown))


@router.post("/stacks/{stack_id}/jobs")
def begin(request: Request, stack_id: int, posted: JobRequest) -> dict[str, Any]:
    """Begins a job."""
    kind = JOB_KINDS.get(posted.kind)
    if kind is None:
        raise InvalidEdit(f"a job is one of {', '.join(JOB_KINDS)}, not '{posted.kind[:40]}'")
    try:
        wanted = kind.model_validate(posted.wanted)
    except ValidationError as error:
        raise InvalidEdit(f"what was asked for is not valid: {explain(error)}") from None
    return told(jobs_of(request).start(stack_id, wanted))


@router.get("/stacks/{stack_id}/jobs")
def of_stack(request: Request, stack_id: int) -> dict[str, Any]:
    """The jobs of a stack that are under way, and those that the program did not live to finish."""
    workspace_of(request).stacks.head_id(stack_id)
    jobs = jobs_of(request).listed(stack_id=stack_id)
    return {"jobs": [told(job) for job in jobs if job.kept.state in ("running", "broken off")]}


@router.get("/jobs/{number}")
def job(request: Request, number: int) -> dict[str, Any]:
    """How a job goes."""
    return told(jobs_of(request).get(number))


@router.post("/jobs/{number}/stop")
def stop(request: Request, number: int) -> dict[str, Any]:
    """Stops it before its next step."""
    return told(jobs_of(request).stop(number))


@router.post("/jobs/{number}/again")
def again(request: Request, number: int) -> dict[str, Any]:
    """Begins it once more, on what it had."""
    return told(jobs_of(request).again(number))


@router.post("/jobs/{number}/remove")
def remove(request: Request, number: int) -> dict[str, Any]:
    """Takes it off the list."""
    return told(jobs_of(request).remove(number))
