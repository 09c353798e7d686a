"""Work that takes a while: a few at once, on threads of their own, so that edits and sound never queue behind it."""

from __future__ import annotations

import functools
from collections.abc import Awaitable, Callable
from typing import Any, TypeVar

from anyio import CapacityLimiter, to_thread
from fastapi import Request

MOST_AT_ONCE = 4
Answer = TypeVar("Answer")


def heavy_limiter(request: Request) -> CapacityLimiter:
    """What such work waits for."""
    state = request.app.state
    if not hasattr(state, "heavy"):
        state.heavy = CapacityLimiter(MOST_AT_ONCE)
    limiter: CapacityLimiter = state.heavy
    return limiter


def heavy(work: Callable[..., Answer]) -> Callable[..., Awaitable[Answer]]:
    """A route that measures or tries things out; it takes its `request` by that name."""

    @functools.wraps(work)
    async def endpoint(request: Request, **given: Any) -> Answer:
        return await to_thread.run_sync(
            functools.partial(work, request=request, **given), limiter=heavy_limiter(request)
        )

    return endpoint
