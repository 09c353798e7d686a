"""The web application: create_app(workspace)."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from types import MappingProxyType

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.types import ASGIApp

from apilado.actions.job_kinds import JOB_KINDS
from apilado.actions.jobs import Jobs
from apilado.actions.quarry import Surveyor
from apilado.actions.storing import Housekeeper
from apilado.actions.workspace import Workspace
from apilado.core.document.reading import explained
from apilado.errors import ApiladoError, NotFound, Overtaken, ServerFault, StorageFault
from apilado.web.pages import page
from apilado.web.routes import bench, deliver, files, guide, jobs, listening, parts, quarry, remedies, shelf, sound
from apilado.web.security import Doors, Security

STATUS = MappingProxyType({NotFound: 404, StorageFault: 507, ServerFault: 500})
STATIC = Path(__file__).parent / "static"


class Application(FastAPI):
    """FastAPI inside of what every request must pass: what fails anywhere is answered with the same headers."""

    doors = Doors()

    def build_middleware_stack(self) -> ASGIApp:
        """All of FastAPI's own layers, and ours around them."""
        return Security(super().build_middleware_stack(), doors=self.doors)


def create_app(workspace: Workspace, doors: Doors | None = None, history_days: int = 0) -> Application:
    """The application over an open workspace, which it closes at its end.

    Args:
        doors: who may come in.
        history_days: steps of undo that are older are thinned while nobody works; 0: none are.
    """

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        Housekeeper(workspace, history_days).start()
        yield
        workspace.close()

    app = Application(title="Apilado", docs_url=None, redoc_url=None, openapi_url=None, lifespan=lifespan)
    app.state.workspace = workspace
    app.state.jobs = Jobs(workspace, JOB_KINDS)
    app.state.surveyor = Surveyor(workspace)
    for module in (shelf, bench, remedies, sound, listening, files, quarry, jobs, deliver, parts, guide):
        app.include_router(module.router)
    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    app.add_exception_handler(ApiladoError, told)
    app.add_exception_handler(RequestValidationError, malformed)
    app.add_exception_handler(Exception, failed)
    app.doors = doors or Doors()
    return app


def told(request: Request, error: Exception) -> Response:
    """An error of ours, in the form the page asked for."""
    if isinstance(error, Overtaken):
        return Response(status_code=204)  # nothing is wrong, and a newer answer is on its way
    status = next((code for kind, code in STATUS.items() if isinstance(error, kind)), 422)
    # Half a surrogate pair, which a request may hold, cannot be sent back.
    message = str(error).encode("utf-8", "replace").decode()
    message = message[:1].upper() + message[1:]
    if "HX-Request" in request.headers:
        return HTMLResponse(page(request, "_partials/notice.html", message=message), status_code=status)
    if "text/html" in request.headers.get("accept", ""):
        return HTMLResponse(page(request, "error.html", message=message), status_code=status)
    return JSONResponse({"error": message}, status_code=status)


def failed(request: Request, error: Exception) -> Response:
    """An error that is a fault of ours: the log tells it, whoever asked is told that nothing was changed."""
    if isinstance(error, OSError):
        return told(request, StorageFault(f"a file could not be read or written: {error.strerror or error}"))
    return told(request, ServerFault("something went wrong here, and nothing was changed; the log says what"))


def malformed(request: Request, error: Exception) -> Response:
    """A request that does not have the form of any of ours."""
    faults = explained(error.errors())  # type: ignore[attr-defined]
    return told(request, ApiladoError(f"the request is not valid: {faults}"))
