"""Kept parts: kept, listed, put in, removed."""

from __future__ import annotations

from typing import Any, get_args

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse
from pydantic import Field

from apilado.actions import stacks
from apilado.core.document.addresses import parted
from apilado.core.document.kept_part import PartKind, part_taken, put_part
from apilado.core.parameters import Model
from apilado.errors import InvalidEdit
from apilado.web.drawings.part_row import part_row
from apilado.web.drawings.spectrum_row import NARROW, WIDE
from apilado.web.pages import page
from apilado.web.routes.common import workspace_of

router = APIRouter()


class KeepRequest(Model):
    """A part of a stack that is to be kept."""

    kind: str = Field(max_length=20)
    address: str = Field(max_length=200)


@router.post("/stacks/{stack_id}/keep-part")
def keep(request: Request, stack_id: int, posted: KeepRequest) -> dict[str, Any]:
    """Keeps a part in the Quarry."""
    kinds: tuple[PartKind, ...] = get_args(PartKind)
    kind = next((each for each in kinds if each == posted.kind), None)
    if kind is None:
        raise InvalidEdit(f"what is kept is one of {', '.join(kinds)}, not '{posted.kind}'")
    workspace = workspace_of(request)
    kept = workspace.parts.keep(part_taken(workspace.stacks.head(stack_id).stack, kind, posted.address))
    return {"id": kept.id, "told": f"Kept in the Quarry, among the parts, as ‘{kept.part.name}’."}


@router.get("/parts")
def listed(request: Request, stack: int = 0, words: str = "") -> HTMLResponse:
    """The kept parts."""
    workspace = workspace_of(request)
    found = workspace.parts.found(words[:200])
    rows = [{"listed": each, "drawing": part_row(each.part, NARROW if stack else WIDE)} for each in found]
    return HTMLResponse(page(request, "_partials/parts.html", rows=rows, stack_id=stack))


class PutRequest(Model):
    """A kept part that is put into a stack."""

    part: int
    to: str = Field(default="", max_length=200, description="Address of the layer or bus that is chosen")
    client: str = Field(default="", max_length=80)


@router.post("/stacks/{stack_id}/put-part")
def put(request: Request, stack_id: int, posted: PutRequest) -> dict[str, Any]:
    """Puts a kept part into a stack: one undoable edit."""
    workspace = workspace_of(request)
    made = put_part(workspace.stacks.head(stack_id).stack, workspace.parts.get(posted.part).part, posted.to)
    done = stacks.edit(workspace, stack_id, made.edit, client=posted.client)
    kind, name = parted(made.made)
    select = {"layers": f"layer:{name}", "duckers": f"duck:{name}"}.get(kind)
    return {"revision": done.revision.id, "told": made.told, "select": select}


class PartChange(Model):
    """Another name."""

    name: str = Field(max_length=200)


@router.post("/parts/{number}")
def rename(request: Request, number: int, posted: PartChange) -> dict[str, Any]:
    """Gives a part another name."""
    return {"name": workspace_of(request).parts.rename(number, posted.name).part.name}


@router.post("/parts/{number}/remove")
def remove(request: Request, number: int) -> dict[str, Any]:
    """Takes a part out of the list."""
    return {"id": number, "name": workspace_of(request).parts.remove(number).part.name}


@router.post("/parts/{number}/put-back")
def put_back(request: Request, number: int) -> dict[str, Any]:
    """Puts it back."""
    return {"id": number, "name": workspace_of(request).parts.put_back(number).part.name}
