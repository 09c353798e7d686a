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
from apilado.actions.multisampling import Multisample, MultisampleOptions
from apilado.actions.multisampling import check as check_instrument
from apilado.core.document.reading import explain
from apilado.core.parameters import Model, parameters_of
from apilado.errors import ApiladoError, NotFound
from apilado.web.drawings.delivery_view import delivery_view, size_said
from apilado.web.drawings.keys_view import keys_view
from apilado.web.pages import page
from apilado.web.routes.common import jobs_of, workspace_of
from apilado.web.routes.heavy import heavy
from apilado.web.routes.jobs import told

router = APIRouter()
PARTS = ("mix", "bass", "space", "kick", "layers", "notes", "curves")
KINDS = ("deliver", "multisample")


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
    earlier = jobs_of(request).listed(stack_id=stack_id, kinds=KINDS)
    options = DeliveryOptions(rate_hz=head.stack.sample_rate, names=USUAL_NAMES)
    instrument = MultisampleOptions(rate_hz=head.stack.sample_rate)
    for job in earlier[::-1]:
        if job.kept.kind == Deliver.kind:
            options = DeliveryOptions.model_validate(job.kept.wanted["options"])
        else:
            instrument = MultisampleOptions.model_validate(job.kept.wanted["options"])
    given = {"presets": workspace.presets.listed(), "instrument": instrument}
    given |= {"notes": {p.name: p for p in parameters_of(MultisampleOptions)}, "drawn_keys": keys_view(instrument)}
    return HTMLResponse(page(request, "deliver.html", **_shown(request, stack_id, options), **given))


def _shown(request: Request, stack_id: int, options: DeliveryOptions) -> dict[str, Any]:
    head = workspace_of(request).stacks.head(stack_id)
    jobs = jobs_of(request).listed(stack_id=stack_id, kinds=KINDS)
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


def _instrument_in(given: dict[str, Any]) -> MultisampleOptions:
    """The choices of a multisample as a form sends them."""
    known, values = {p.name: p for p in parameters_of(MultisampleOptions)}, dict[str, Any]()
    for name, parameter in known.items():
        if parameter.kind == "switch":
            values[name] = name in given
            continue
        if name not in given:
            continue
        try:
            value = given[name]
            values[name] = parameter.parsed(int(value) if name == "rate_hz" and str(value).isdigit() else value)
        except ValueError as error:
            raise ApiladoError(f"{parameter.label} {error}") from None
    try:
        return MultisampleOptions(**{**values, "layer": str(given.get("layer", ""))[:40]})
    except ValidationError as error:
        raise ApiladoError(f"the multisample is not valid: {explain(error)}") from None


@router.get("/stacks/{stack_id}/deliver/keys")
def keys(request: Request, stack_id: int) -> HTMLResponse:
    """The keys of a multisample, drawn; the choices come as a query."""
    stack = workspace_of(request).stacks.head(stack_id).stack
    try:
        options = _instrument_in(dict(request.query_params))
        check_instrument(stack, options)
    except ApiladoError as error:
        return HTMLResponse(page(request, "_partials/keys.html", fault=str(error), drawing="", count=0))
    return HTMLResponse(
        page(request, "_partials/keys.html", fault="", drawing=keys_view(options), count=options.count())
    )


@router.post("/stacks/{stack_id}/instrument")
def instrument(request: Request, stack_id: int, form: FormData = Depends(form_of)) -> dict[str, Any]:  # noqa: B008
    """Begins a multisample."""
    return told(jobs_of(request).start(stack_id, Multisample(options=_instrument_in(_texts(form)))))


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
    if job.kept.kind not in KINDS or job.kept.state != "done" or not path.is_file():
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
