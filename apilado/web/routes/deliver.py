"""Deliver: the page that writes files."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Depends, Request
from fastapi.responses import FileResponse, HTMLResponse
from pydantic import Field, ValidationError
from starlette.datastructures import FormData

from apilado.actions.delivery import Deliver, archive_path, check, planned
from apilado.actions.delivery_plan import NAME_FIELDS, USUAL_NAMES, DeliveryOptions, file_names
from apilado.actions.midi_delivery import midi_names
from apilado.core.document.reading import explain
from apilado.core.parameters import Model, parameters_of
from apilado.errors import ApiladoError, NotFound
from apilado.web.drawings.delivery_view import delivery_view, size_said
from apilado.web.pages import page
from apilado.web.routes.common import jobs_of, workspace_of
from apilado.web.routes.heavy import heavy
from apilado.web.routes.jobs import told

router = APIRouter()
PARTS = ("mix", "bass", "space", "kick", "layers", "notes", "curves")
KIND = "deliver"


def options_in(given: dict[str, Any]) -> DeliveryOptions:
    """The choices of a delivery as a form sends them: of switches those that are on.

    Raises:
        ApiladoError: one is none that there is.
    """
    known = {parameter.name: parameter for parameter in parameters_of(DeliveryOptions)}
    values: dict[str, Any] = {name: value for name, value in given.items() if name in known and value != ""}
    for parameter in known.values():
        if parameter.kind == "switch":
            values[parameter.name] = parameter.name in given and given[parameter.name] not in (False, "false")
    if str(values.get("rate_hz", "")).isdigit():
        values["rate_hz"] = int(values["rate_hz"])
    try:
        return DeliveryOptions.model_validate(values)
    except ValidationError as error:
        raise ApiladoError(f"the delivery is not valid: {explain(error)}") from None


async def form_of(request: Request) -> FormData:
    """The fields of a form; what is done with them is done off the event loop."""
    return await request.form()


def _texts(form: FormData) -> dict[str, Any]:
    return {name: value for name, value in form.items() if isinstance(value, str)}


@router.get("/stacks/{stack_id}/deliver")
def deliver_page(request: Request, stack_id: int) -> HTMLResponse:
    """The page: the choices as they were made last for this stack."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    earlier = jobs_of(request).listed(stack_id=stack_id, kinds=(KIND,))
    options = DeliveryOptions(rate_hz=head.stack.sample_rate, names=USUAL_NAMES)
    if earlier:
        options = DeliveryOptions.model_validate(earlier[0].kept.wanted["options"])
    presets = workspace.presets.listed()
    return HTMLResponse(page(request, "deliver.html", **_shown(request, stack_id, options), presets=presets))


def _shown(request: Request, stack_id: int, options: DeliveryOptions) -> dict[str, Any]:
    head = workspace_of(request).stacks.head(stack_id)
    jobs = jobs_of(request).listed(stack_id=stack_id, kinds=(KIND,))
    parameters = {parameter.name: parameter for parameter in parameters_of(DeliveryOptions)}
    given = {"head": head, "stack": head.stack, "stack_id": stack_id, "options": options, "parameters": parameters}
    return {**given, "parts": PARTS, "jobs": jobs, "size_said": size_said, "fields": NAME_FIELDS}


@router.get("/stacks/{stack_id}/deliver/plan")
@heavy
def plan(request: Request, stack_id: int) -> HTMLResponse:
    """What would be written, drawn; the choices come as a query."""
    workspace = workspace_of(request)
    head = workspace.stacks.head(stack_id)
    options = options_in(dict(request.query_params))
    try:
        check(head.stack, options, head.id)
        found = planned(head.stack, workspace.load, workspace.engine, options)
    except ApiladoError as error:
        return HTMLResponse(
            page(request, "_partials/delivery_plan.html", fault=str(error), drawing="", midi=[], gain=0.0)
        )
    drawing = delivery_view(head.stack, options, found, head.id) if file_names(head.stack, options) else ""
    shown = {"fault": "", "drawing": drawing, "midi": list(midi_names(head.stack, options, head.id).values())}
    return HTMLResponse(page(request, "_partials/delivery_plan.html", **shown, gain=found.gain))


@router.post("/stacks/{stack_id}/deliver")
def deliver(request: Request, stack_id: int, form: FormData = Depends(form_of)) -> dict[str, Any]:  # noqa: B008
    """Begins a delivery."""
    return told(jobs_of(request).start(stack_id, Deliver(options=options_in(_texts(form)))))


@router.get("/stacks/{stack_id}/deliveries")
def earlier(request: Request, stack_id: int) -> HTMLResponse:
    """The deliveries of a stack."""
    shown = _shown(request, stack_id, DeliveryOptions())
    return HTMLResponse(page(request, "_partials/deliveries.html", **shown))


@router.get("/deliveries/{number}/file")
def delivered(request: Request, number: int) -> FileResponse:
    """The finished ZIP."""
    job = jobs_of(request).get(number)
    path = archive_path(workspace_of(request), number)
    if job.kept.kind != KIND or job.kept.state != "done" or not path.is_file():
        raise NotFound("this delivery is not finished, or its file has gone")
    return FileResponse(path, filename=str(job.kept.made["file_name"]), media_type="application/zip")


class PresetRequest(Model):
    """Choices that are kept by a name."""

    name: str = Field(max_length=200)
    options: dict[str, Any] = Field(default={})


@router.post("/presets")
def keep_preset(request: Request, posted: PresetRequest) -> dict[str, Any]:
    """Keeps the choices of a delivery by a name."""
    options = options_in(posted.options).model_dump(mode="json")
    return {"name": workspace_of(request).presets.keep(posted.name, options), "options": options}


@router.post("/presets/remove")
def remove_preset(request: Request, posted: PresetRequest) -> dict[str, Any]:
    """Removes a preset."""
    workspace_of(request).presets.remove(posted.name)
    return {"name": posted.name}
