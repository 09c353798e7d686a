"""The web application: create_app(workspace)."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse, Response
from fastapi.staticfiles import StaticFiles

from apilado.actions.delivery import Deliveries
from apilado.actions.workspace import Workspace
from apilado.errors import ApiladoError, NotFound, Overtaken
from apilado.web.pages import page
from apilado.web.routes import bench, files, shelf, sound
from apilado.web.security import Security

STATIC = Path(__file__).parent / "static"


def create_app(workspace: Workspace, *, host: str = "127.0.0.1", port: int = 8765) -> FastAPI:
    """The application over an open workspace, which it closes at its end."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        yield
        workspace.close()

    app = FastAPI(title="Apilado", docs_url=None, redoc_url=None, openapi_url=None, lifespan=lifespan)
    app.state.workspace = workspace
    app.state.deliveries = Deliveries(workspace)
    for module in (shelf, bench, sound, files):
        app.include_router(module.router)
    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    app.add_exception_handler(ApiladoError, told)
    app.add_exception_handler(RequestValidationError, malformed)
    app.add_middleware(Security, host=host, port=port)
    return app


def told(request: Request, error: Exception) -> Response:
    """An error of ours, in the form the page asked for."""
    if isinstance(error, Overtaken):
        return Response(status_code=204)  # nothing is wrong, and a newer answer is on its way
    status = 404 if isinstance(error, NotFound) else 422
    message = str(error)
    message = message[:1].upper() + message[1:]
    if "HX-Request" in request.headers:
        return HTMLResponse(page(request, "_partials/notice.html", message=message), status_code=status)
    if "text/html" in request.headers.get("accept", ""):
        return HTMLResponse(page(request, "error.html", message=message), status_code=status)
    return JSONResponse({"error": message}, status_code=status)


def malformed(request: Request, error: Exception) -> Response:
    """A request that does not have the form of any of ours."""
    detail = "; ".join(f"{'/'.join(map(str, e['loc']))}: {e['msg']}" for e in error.errors()[:3])  # type: ignore[attr-defined]
    return told(request, ApiladoError(f"the request is not valid: {detail}"))
