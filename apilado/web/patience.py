"""HTTP connections that do not wait for ever: whoever sends half a header and nothing more is let go."""

from __future__ import annotations

import asyncio
from typing import Any

from uvicorn.protocols.http.h11_impl import H11Protocol

HEADER_SECONDS = 15.0


class PatientProtocol(H11Protocol):
    """The server's protocol with a time for the whole of a request's header."""

    _deadline: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        """Begins to wait for the first header."""
        super().connection_made(transport)
        self._wait()

    def data_received(self, data: bytes) -> None:
        """Goes on waiting where a header has begun and not ended."""
        super().data_received(data)
        if self.cycle is not None and not self.cycle.response_complete:
            self._stop_waiting()
        elif self._deadline is None:
            self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        """Waits no more."""
        self._stop_waiting()
        super().connection_lost(exc)

    def _wait(self) -> None:
        self._deadline = self.loop.call_later(HEADER_SECONDS, self._let_go)

    def _stop_waiting(self) -> None:
        if self._deadline is not None:
            self._deadline.cancel()
            self._deadline = None

    def _let_go(self) -> None:
        self._deadline = None
        if not self.transport.is_closing():
            self.transport.close()
