"""The shelf: all stacks."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, RedirectResponse, Response

from apilado.actions import beginning, stacks
from apilado.core.document.edits_values import SetValue
from apilado.demo.starts import starts
from apilado.errors import NotFound
from apilado.store.stacks import Listed, Unreadable
from apilado.web.drawings.small_pile import small_pile
from apilado.web.pages import page
from apilado.web.routes.common import workspace_of
from apilado.web.routes.heavy import heavy

router = APIRouter()


def _cards(request: Request, **values: object) -> HTMLResponse:
    return HTMLResponse(page(request, "_partials/cards.html", **{**_shown(request), **values}))


def _shown(request: Request) -> dict[str, Any]:
    """What the cards need: those that can be read, and those that cannot."""
    shelved = workspace_of(request).stacks.shelved()
    return {
        "listed": [item for item in shelved if isinstance(item, Listed)],
        "unreadable": [item for item in shelved if isinstance(item, Unreadable)],
        "small_pile": small_pile,
        "deleted": None,
        "notice": None,
        "starts": starts(),
    }


@router.get("/")
def shelf(request: Request) -> HTMLResponse:
    """The first page."""
    return HTMLResponse(page(request, "shelf.html", **_shown(request)))


@router.get("/favicon.ico")
def favicon() -> Response:
    """The mark of the application."""
    return RedirectResponse("/static/mark.svg", status_code=301)


@router.get("/stacks/{stack_id}/card")
@heavy
def card(request: Request, stack_id: int) -> HTMLResponse:
    """One stack with its measured pile and its counts; measures it if that was not done yet."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    found = stacks.summary(workspace, head.id, head.stack)
    drawing = small_pile(head.stack, found.widths)
    return HTMLResponse(
        page(
            request, "_partials/card_measured.html", stack=head.stack, stack_id=stack_id, summary=found, drawing=drawing
        )
    )


@router.post("/stacks")
def new(request: Request, name: str = Form("New stack", max_length=80)) -> RedirectResponse:
    """A new stack that begins with a tone, opened."""
    revision = beginning.from_tone(workspace_of(request), name.strip() or "New stack")
    return RedirectResponse(f"/stacks/{revision.stack_id}", status_code=303)


@router.post("/begin/recording")
def begin_recording(request: Request, file: UploadFile = File()) -> dict[str, str]:  # noqa: B008
    """A stack from a recording: its address, and what was read in it."""
    content, name = file.file.read(), (file.filename or "audio")[-200:]
    revision, reading = beginning.from_recording(workspace_of(request), content, name)
    return {"url": f"/stacks/{revision.stack_id}", "told": beginning.told(reading)}


@router.post("/begin/midi")
def begin_midi(request: Request, file: UploadFile = File()) -> dict[str, str]:  # noqa: B008
    """A stack from a MIDI file: its address."""
    content, name = file.file.read(), (file.filename or "file")[-200:]
    revision = beginning.from_midi(workspace_of(request), content, name)
    return {"url": f"/stacks/{revision.stack_id}", "told": f"{len(revision.stack.pattern)} notes from '{name}'."}


@router.post("/begin/start")
def begin_start(
    request: Request, start: str = Form(max_length=80), name: str = Form("", max_length=80)
) -> RedirectResponse:
    """A stack from a start of ours, opened."""
    found = next((each for each in starts() if each.key == start), None)
    if found is None:
        raise NotFound(f"there is no start '{start[:40]}'")
    revision = beginning.from_start(workspace_of(request), found.bundle(), name.strip())
    return RedirectResponse(f"/stacks/{revision.stack_id}", status_code=303)


@router.post("/stacks/{stack_id}/rename")
def rename(request: Request, stack_id: int, name: str = Form(max_length=80)) -> HTMLResponse:
    """Another name; an edit like any other."""
    stacks.edit(workspace_of(request), stack_id, SetValue(path="name", value=name.strip()))
    return _cards(request)


@router.post("/stacks/{stack_id}/duplicate")
def duplicate(request: Request, stack_id: int) -> HTMLResponse:
    """A copy."""
    stacks.duplicate(workspace_of(request), stack_id)
    return _cards(request)


@router.post("/stacks/{stack_id}/delete")
def delete(request: Request, stack_id: int) -> HTMLResponse:
    """Off the shelf, with an offer to put it back."""
    found = workspace_of(request).stacks
    name = found.name(stack_id)
    found.delete(stack_id)
    return _cards(request, deleted=(stack_id, name))


@router.post("/stacks/{stack_id}/restore")
def restore(request: Request, stack_id: int) -> HTMLResponse:
    """Back on the shelf."""
    workspace_of(request).stacks.restore(stack_id)
    return _cards(request)


@router.post("/import")
def import_file(request: Request, file: UploadFile = File()) -> HTMLResponse:  # noqa: B008
    """A bundle or a stack JSON."""
    revision = stacks.import_stack(workspace_of(request), file.file.read(), file.filename or "file")
    return _cards(request, notice=f"'{revision.stack.name}' is on the shelf.")
