"""What the routes share."""

from __future__ import annotations

from fastapi import Request
from pydantic import ValidationError

from apilado.actions.jobs import Jobs
from apilado.actions.quarry import Surveyor
from apilado.actions.workspace import Workspace
from apilado.core.document.reading import explain
from apilado.core.render.audition import Audition
from apilado.errors import ApiladoError


def workspace_of(request: Request) -> Workspace:
    """The open workspace."""
    found: Workspace = request.app.state.workspace
    return found


def jobs_of(request: Request) -> Jobs:
    """The jobs of the workspace."""
    found: Jobs = request.app.state.jobs
    return found


def surveyor_of(request: Request) -> Surveyor:
    """What measures the sounds that come in."""
    found: Surveyor = request.app.state.surveyor
    return found


def audition_of(heard: str = "{}") -> Audition:
    """What a page hears, from its query: the audition as JSON."""
    try:
        return Audition.model_validate_json(heard)
    except ValidationError as error:
        raise ApiladoError(f"what is to be heard is not valid: {explain(error)}") from None
