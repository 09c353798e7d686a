"""The Quarry: every sound that was brought or bounced."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Depends, File, Form, Query, Request, UploadFile
from fastapi.responses import FileResponse, HTMLResponse
from pydantic import Field

from apilado.actions import beginning, quarry, stacks
from apilado.actions.putting_in import HOWS, How, PutIn, put_in
from apilado.actions.workspace import Workspace
from apilado.core.document.stack import KEYS, Stack
from apilado.core.parameters import Model
from apilado.core.units import hz_to_midi, midi_to_name
from apilado.errors import ApiladoError, InvalidEdit, NotFound
from apilado.store.sounds import Entry, Filters
from apilado.web.drawings.spectrum_row import NARROW, WIDE, spectrum_axis, spectrum_row
from apilado.web.pages import page
from apilado.web.routes.common import surveyor_of, workspace_of

router = APIRouter()
AIM_LKFS = -23.0
"""Sounds that are heard alone are turned down to this; none is turned up (EBU R 128's target level)."""
HEARD_ALONE: How = "laid"


def filters_of(
    words: str = Query(default="", max_length=200),
    origin: str = Query(default="", max_length=20),
    tag: str = Query(default="", max_length=60),
    month: str = Query(default="", max_length=7),
    key: str = Query(default="", max_length=12),
    used: str = Query(default="", max_length=10),
    pinned: bool = False,
    length: str = Query(default="", max_length=20),
    pitch: str = Query(default="", max_length=20),
    tempo: str = Query(default="", max_length=20),
) -> Filters:
    """What is looked for, as the form of the list sends it; ranges are 'low-high', either may be left out."""
    (shortest, longest), (lowest, highest), (slowest, fastest) = map(_range, (length, pitch, tempo))
    return Filters(
        words=words,
        origin=origin,
        tag=tag,
        month=month,
        key=key,
        used=used,
        pinned=pinned,
        shortest_s=shortest,
        longest_s=longest,
        lowest_hz=lowest,
        highest_hz=highest,
        slowest_bpm=slowest,
        fastest_bpm=fastest,
    )


def _range(text: str) -> tuple[float, float]:
    low, _, high = text.replace("–", "-").partition("-")
    try:
        return float(low or 0.0), float(high or 0.0)
    except ValueError:
        raise ApiladoError(f"'{text}' is no range: two numbers with a - between them, as 2-8") from None


@router.get("/quarry")
def quarry_page(request: Request) -> HTMLResponse:
    """The Quarry as a page of its own."""
    return HTMLResponse(page(request, "quarry.html", **_list(request, Filters())))


@router.get("/stacks/{stack_id}/quarry")
def drawer(request: Request, stack_id: int, client: str = "") -> HTMLResponse:
    """The Quarry as a drawer of a bench."""
    workspace_of(request).stacks.head_id(stack_id)
    return HTMLResponse(page(request, "_partials/quarry.html", **_list(request, Filters(), stack_id)))


@router.get("/quarry/list")
def listed(
    request: Request,
    before: int = 0,
    stack: int = 0,
    filters: Filters = Depends(filters_of),  # noqa: B008
) -> HTMLResponse:
    """A page of what is looked for."""
    return HTMLResponse(page(request, "_partials/quarry_rows.html", **_list(request, filters, stack, before)))


def _list(request: Request, filters: Filters, stack_id: int = 0, before: int = 0) -> dict[str, Any]:
    workspace = workspace_of(request)
    found = workspace.sounds.found(filters, before)
    if any(not entry.measured for entry in found.entries):
        surveyor_of(request).wake()
    stack = workspace.stacks.head(stack_id).stack if stack_id else None
    rows = [_row(workspace, entry, stack) for entry in found.entries]
    shown = {
        "rows": rows,
        "found": found,
        "before": before,
        "stack_id": stack_id,
        "axis": spectrum_axis(NARROW if stack_id else WIDE),
    }
    return {**shown, "facets": workspace.sounds.facets(), "keys": KEYS}


def _row(workspace: Workspace, entry: Entry, stack: Stack | None) -> dict[str, Any]:
    said = f"Spectrum of {entry.name}" if entry.spectrum else f"{entry.name} is not measured yet"
    heard = None if stack is None else _put_in(workspace, stack, entry, HEARD_ALONE)
    drawing = spectrum_row(entry.spectrum, entry.frequency_hz, said, WIDE if stack is None else NARROW)
    return {"entry": entry, "drawing": drawing, "heard": heard, "volume": volume(entry)}


def _put_in(workspace: Workspace, stack: Stack, entry: Entry, how: How) -> PutIn | None:
    try:
        return put_in(workspace, stack, entry, how)
    except ApiladoError:
        return None


def volume(entry: Entry) -> float:
    """The gain at which a sound is heard alone."""
    loudness = entry.loudness_lkfs
    return 1.0 if loudness is None else round(min(1.0, 10.0 ** ((AIM_LKFS - loudness) / 20.0)), 4)


@router.get("/quarry/clearing")
def clearing(request: Request) -> HTMLResponse:
    """What clearing unused audio would free."""
    found = quarry.clearing(workspace_of(request))
    return HTMLResponse(page(request, "_partials/clearing.html", found=found, cleared=None))


@router.post("/quarry/clear")
def clear(request: Request) -> HTMLResponse:
    """Deletes what was removed and is not used."""
    cleared = quarry.clear(workspace_of(request))
    return HTMLResponse(page(request, "_partials/clearing.html", found=None, cleared=cleared))


@router.post("/quarry/import")
def bring(request: Request, file: UploadFile = File()) -> dict[str, Any]:  # noqa: B008
    """A file of sound; one whose content is there already is put back into the list."""
    workspace = workspace_of(request)
    name = (file.filename or "sound")[-200:]
    content = file.file.read()
    before = workspace.sounds.facets().count
    asset = workspace.assets.add(content, name)
    entry = workspace.sounds.of_asset(asset.sha256)
    surveyor_of(request).wake()
    new = workspace.sounds.facets().count > before
    return {"id": entry.id if entry else 0, "name": entry.name if entry else name, "new": new}


@router.get("/quarry/{number}")
def chosen(request: Request, number: int, stack: int = 0) -> HTMLResponse:
    """All that is known of one sound, and what can be done with it."""
    return _chosen(request, number, stack)


def _chosen(request: Request, number: int, stack_id: int = 0) -> HTMLResponse:
    workspace = workspace_of(request)
    entry = workspace.sounds.entry(number)
    stack = workspace.stacks.head(stack_id).stack if stack_id else None
    uses = [(use, workspace.stacks.name(use.stack)) for use in workspace.sounds.uses(number)]
    pitch = None if entry.frequency_hz is None else _pitch_in_words(entry.frequency_hz)
    origin = None
    if entry.stack is not None:
        try:
            origin = workspace.stacks.name(entry.stack)
        except NotFound:
            origin = "a stack that is no longer on the shelf"
    given = {"entry": entry, "uses": uses, "pitch": pitch, "origin": origin, "hows": HOWS, "keys": KEYS}
    heard = None if stack is None else _put_in(workspace, stack, entry, HEARD_ALONE)
    given |= {"stack": stack, "stack_id": stack_id, "heard": heard, "volume": volume(entry)}
    return HTMLResponse(page(request, "_partials/quarry_sound.html", **given))


def _pitch_in_words(hertz: float) -> str:
    midi = float(hz_to_midi(hertz))
    cents = round(100.0 * (midi - round(midi)))
    return f"{midi_to_name(round(midi))} {cents:+d} cents, {hertz:.1f} Hz".replace("-", "−")


@router.get("/quarry/{number}/sound")
def sound(request: Request, number: int) -> FileResponse:
    """The audio of a sound, as it came."""
    workspace = workspace_of(request)
    entry = workspace.sounds.entry(number)
    path = workspace.assets.path_of(entry.asset)
    return FileResponse(path, filename=f"{entry.name}{path.suffix}", content_disposition_type="inline")


class SoundChange(Model):
    """What is changed of a sound."""

    name: str | None = Field(default=None, max_length=1000)
    tags: str | None = Field(default=None, max_length=1000)
    key: str | None = Field(default=None, max_length=12)
    tempo_bpm: float | None = Field(default=None, ge=0.0, le=400.0)
    pinned: bool | None = None


@router.post("/quarry/{number}")
def change(request: Request, number: int, posted: SoundChange) -> dict[str, Any]:
    """Another name, tags, key, tempo; pinned or not."""
    if posted.key and posted.key not in KEYS:
        raise InvalidEdit(f"'{posted.key}' is none of C minor … B major")
    entry = workspace_of(request).sounds.change(number, **posted.model_dump())
    return {"id": entry.id, "name": entry.name, "tags": entry.tags, "pinned": entry.pinned}


@router.post("/quarry/{number}/remove")
def remove(request: Request, number: int) -> dict[str, Any]:
    """Takes a sound out of the list."""
    entry = workspace_of(request).sounds.remove(number)
    return {"id": entry.id, "name": entry.name}


@router.post("/quarry/{number}/put-back")
def put_back(request: Request, number: int) -> dict[str, Any]:
    """Puts it back."""
    entry = workspace_of(request).sounds.put_back(number)
    return {"id": entry.id, "name": entry.name}


@router.post("/quarry/{number}/begin")
def begin(request: Request, number: int) -> dict[str, Any]:
    """A new stack from a sound."""
    workspace = workspace_of(request)
    entry = workspace.sounds.entry(number)
    asset = workspace.assets.get(entry.asset)
    revision, reading = beginning.from_recording(workspace, asset.content, f"{entry.name}.{asset.extension}")
    return {"url": f"/stacks/{revision.stack_id}", "told": beginning.told(reading)}


@router.post("/stacks/{stack_id}/put-in")
def put_into(
    request: Request,
    stack_id: int,
    sound: int = Form(),
    how: str = Form(default="laid", max_length=20),
    client: str = Form(default="", max_length=80),
) -> dict[str, Any]:
    """Puts a sound of the Quarry into a stack as a layer; answers with what was done so that it fits."""
    workspace = workspace_of(request)
    wanted = next((each for each in HOWS if each == how), None)
    if wanted is None:
        raise InvalidEdit(f"a sound is put in as one of {', '.join(HOWS)}, not '{how}'")
    made = put_in(workspace, workspace.stacks.head(stack_id).stack, workspace.sounds.entry(sound), wanted)
    done = stacks.edit(workspace, stack_id, made.edit, client=client)
    return {"revision": done.revision.id, "told": made.told, "select": f"layer:{made.layer}"}
