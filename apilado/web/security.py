"""What every answer and every request must satisfy: known hosts, no cross-site posts, a strict content policy."""

from __future__ import annotations

from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

CONTENT_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})
LARGEST_BODY_BYTES = 600 * 2**20


class Security:
    """ASGI middleware. Refuses foreign Host headers (DNS rebinding) and posts that another site's page sends."""

    def __init__(self, app: ASGIApp, *, host: str, port: int) -> None:
        self._app = app
        names = {"127.0.0.1", "localhost", "[::1]", f"[{host}]" if ":" in host else host}
        self._hosts = {f"{name}:{port}" for name in names} | (names if port == 80 else set())

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        refusal = self.refusal(scope["method"], headers)
        if refusal is not None:
            await PlainTextResponse(refusal, status_code=403)(scope, receive, send)
            return

        async def send_safely(message: Message) -> None:
            if message["type"] == "http.response.start":
                sent = MutableHeaders(scope=message)
                sent["Content-Security-Policy"] = CONTENT_POLICY
                sent["X-Content-Type-Options"] = "nosniff"
                sent["Referrer-Policy"] = "same-origin"
                sent["Cross-Origin-Opener-Policy"] = "same-origin"
                sent["Cross-Origin-Resource-Policy"] = "same-origin"
                sent.setdefault("Cache-Control", "no-store")
            await send(message)

        await self._app(scope, receive, send_safely)

    def refusal(self, method: str, headers: Headers) -> str | None:
        """Why a request is not answered, or None."""
        host = headers.get("host", "")
        if host not in self._hosts:
            return f"This Apilado does not answer as '{host}'."
        if method in SAFE_METHODS:
            return None
        length = headers.get("content-length", "0")
        if length.isdigit() and int(length) > LARGEST_BODY_BYTES:
            return f"A request of {int(length) >> 20} MiB is too large; the most is {LARGEST_BODY_BYTES >> 20} MiB."
        if headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
            return "A page of another site may not change anything here."
        origin = headers.get("origin")
        if origin is not None and urlsplit(origin).netloc not in self._hosts:
            return f"A page of '{origin}' may not change anything here."
        return None
