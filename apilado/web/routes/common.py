"""What the routes share."""

from __future__ import annotations

from fastapi import Request

from apilado.actions.delivery import Deliveries
from apilado.actions.workspace import Workspace


def workspace_of(request: Request) -> Workspace:
    """The open workspace."""
    found: Workspace = request.app.state.workspace
    return found


def deliveries_of(request: Request) -> Deliveries:
    """The deliveries of this run."""
    found: Deliveries = request.app.state.deliveries
    return found
