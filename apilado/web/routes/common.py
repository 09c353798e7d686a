"""What the routes share."""

from __future__ import annotations

from fastapi import Request
from pydantic import ValidationError

from apilado.actions.delivery import Deliveries
from apilado.actions.workspace import Workspace
from apilado.core.document.reading import explain
from apilado.core.render.audition import Audition
from apilado.errors import ApiladoError


def workspace_of(request: Request) -> Workspace:
    """The open workspace."""
    found: Workspace = request.app.state.workspace
    return found


def deliveries_of(request: Request) -> Deliveries:
    """The deliveries of this run."""
    found: Deliveries = request.app.state.deliveries
    return found


def audition_of(alone: str = "", point: str = "") -> Audition:
    """What a page hears alone, from its query: owners with commas between them, and the path of an EQ point."""
    try:
        return Audition(alone=tuple(owner for owner in alone.split(",") if owner), point=point)
    except ValidationError as error:
        raise ApiladoError(f"what is to be heard alone is not valid: {explain(error)}") from None
