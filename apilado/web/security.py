"""What every answer and every request must satisfy: known hosts, no cross-site posts, bodies that end, a strict policy.

Beyond loopback every request needs the key that was made at the start: it comes once as part of the printed address and
is then kept in a cookie that no script can read.
"""

from __future__ import annotations

import asyncio
import logging
import secrets
from dataclasses import dataclass, field
from http.cookies import CookieError, SimpleCookie
from ipaddress import ip_address
from urllib.parse import parse_qs, urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import PlainTextResponse, RedirectResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

CONTENT_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "media-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})
LARGEST_UPLOAD_BYTES, LARGEST_BODY_BYTES = 600 * 2**20, 8 * 2**20
"""Of a form with files, and of anything else."""
MOST_WAITING_BODIES = 12
BODY_SECONDS = 30.0
"""A body that brings nothing for this long is given up."""
KEY_NAME = "key"
LOG = logging.getLogger("apilado.web")


def is_loopback(host: str) -> bool:
    """Whether an address can be reached from this machine alone."""
    if host == "localhost":
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def is_wildcard(host: str) -> bool:
    """Whether an address stands for all of this machine's."""
    try:
        return ip_address(host).is_unspecified
    except ValueError:
        return False


@dataclass(frozen=True)
class Doors:
    """Under which names the bench may be asked for, and with which key; '' asks for none."""

    host: str = "127.0.0.1"
    port: int = 8765
    allowed: tuple[str, ...] = ()
    key: str = ""

    @property
    def hosts(self) -> frozenset[str]:
        """Every Host header that is answered, in lower case."""
        own = f"[{self.host}]" if ":" in self.host else self.host
        local = {"127.0.0.1", "localhost", "[::1]"} if is_loopback(self.host) or is_wildcard(self.host) else set()
        names = {name.lower() for name in {*local, own, *self.allowed} if name}
        return frozenset({f"{name}:{self.port}" for name in names} | (names if self.port == 80 else set()))

    @property
    def cookie(self) -> str:
        """The name of the cookie; one for each port, since cookies know none."""
        return f"apilado-{self.port}"


class _TooLarge(Exception):
    """A body passed its limit."""


@dataclass
class _Body:
    """How a request's body comes in."""

    limit: int
    there: int = 0
    ended: bool = False
    refused: tuple[int, str] | None = field(default=None)


class Security:
    """ASGI middleware, the outermost: what it refuses and what fails inside gets the same headers as any answer."""

    def __init__(self, app: ASGIApp, *, doors: Doors) -> None:
        self._app, self._doors = app, doors
        self._hosts = doors.hosts
        self._waiting = 0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        begun = False

        async def send_safely(message: Message) -> None:
            nonlocal begun
            if message["type"] == "http.response.start":
                begun = True
                sent = MutableHeaders(scope=message)
                sent["Content-Security-Policy"] = CONTENT_POLICY
                sent["X-Content-Type-Options"] = "nosniff"
                sent["Referrer-Policy"] = "same-origin"
                sent["Cross-Origin-Opener-Policy"] = "same-origin"
                sent["Cross-Origin-Resource-Policy"] = "same-origin"
                sent.setdefault("Cache-Control", "no-store")
            await send(message)

        headers = Headers(scope=scope)
        refusal = self.refusal(scope["method"], headers) or self._unlocked(scope, headers)
        if refusal is not None:
            await refusal(scope, receive, send_safely)
            return
        body = _Body(limit_of(headers))
        try:
            await self._app(scope, self._counted(receive, body), self._unless_refused(send_safely, body))
        except Exception:
            if body.refused is None:
                LOG.exception("%s %s failed", scope["method"], scope["path"])
        if body.refused is not None and not begun:
            status, message = body.refused
            await PlainTextResponse(message, status_code=status)(scope, receive, send_safely)

    def _counted(self, receive: Receive, body: _Body) -> Receive:
        """`receive` that gives up a body that is too large, too slow, or one too many."""

        async def counted() -> Message:
            if body.ended:
                return await receive()
            self._waiting += 1
            try:
                if self._waiting > MOST_WAITING_BODIES:
                    body.refused = (503, "Too many files are on their way at once. Send it again in a moment.")
                    raise _TooLarge
                message = await asyncio.wait_for(receive(), BODY_SECONDS)
            except TimeoutError:
                body.refused = (408, f"The request brought nothing for {BODY_SECONDS:.0f} seconds, and was given up.")
                raise _TooLarge from None
            finally:
                self._waiting -= 1
            body.there += len(message.get("body", b""))
            body.ended = not message.get("more_body", False)
            if body.there > body.limit:
                body.refused = (413, f"This request is too large; the most is {body.limit >> 20} MiB.")
                raise _TooLarge
            return message

        return counted

    @staticmethod
    def _unless_refused(send: Send, body: _Body) -> Send:
        """`send` that keeps to itself what is made of a body that was given up."""

        async def unless_refused(message: Message) -> None:
            if body.refused is None:
                await send(message)

        return unless_refused

    def refusal(self, method: str, headers: Headers) -> Response | None:
        """Why a request is not answered, or None."""
        host = headers.get("host", "")
        if host.lower() not in self._hosts:
            return _refused(f"This Apilado does not answer as '{host[:80]}'. Names are allowed with --allow-host.")
        if method in SAFE_METHODS:
            return None
        length, limit = headers.get("content-length", "0"), limit_of(headers)
        if length.isascii() and length.isdigit() and int(length[:18]) > limit:
            return _refused(f"This request is too large; the most is {limit >> 20} MiB.", 413)
        if headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
            return _refused("A page of another site may not change anything here.")
        origin = headers.get("origin")
        if origin is not None and _netloc(origin) not in self._hosts:
            return _refused(f"A page of '{origin[:80]}' may not change anything here.")
        return None

    def _unlocked(self, scope: Scope, headers: Headers) -> Response | None:
        """None where the request has the key; else what it gets instead."""
        key = self._doors.key
        if not key:
            return None
        given = parse_qs(scope.get("query_string", b"").decode("latin-1")).get(KEY_NAME, [""])[0]
        if given and secrets.compare_digest(given.encode(), key.encode()):
            answer = RedirectResponse(scope["path"], status_code=303)
            answer.set_cookie(self._doors.cookie, key, httponly=True, samesite="strict", path="/")
            return answer
        if secrets.compare_digest(_cookie(headers, self._doors.cookie).encode(), key.encode()):
            return None
        return _refused("This bench is open to the network and needs its key: use the address that it printed.", 401)


def limit_of(headers: Headers) -> int:
    """How large a request's body may be."""
    return LARGEST_UPLOAD_BYTES if headers.get("content-type", "").startswith("multipart/") else LARGEST_BODY_BYTES


def _refused(message: str, status: int = 403) -> Response:
    return PlainTextResponse(message.encode("utf-8", "replace").decode(), status_code=status)


def _netloc(origin: str) -> str:
    try:
        return urlsplit(origin).netloc.lower()
    except ValueError:
        return ""


def _cookie(headers: Headers, name: str) -> str:
    try:
        found = SimpleCookie(headers.get("cookie", "")).get(name)
    except CookieError:
        return ""
    return found.value if found else ""
