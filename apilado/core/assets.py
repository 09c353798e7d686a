"""Sound that lies in files beside a document, and is named by its content."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

from apilado.core.dsp.audio import Audio
from apilado.errors import NotFound

SHA256_PATTERN = r"^[0-9a-f]{64}$"
AS_IT_LIES = 0
AssetLoader: TypeAlias = Callable[[str, int], Audio]
"""(SHA-256 of the content, rate in Hz) -> the whole audio at that rate; at its own where that is `AS_IT_LIES`."""


def no_assets(sha256: str, rate_hz: int) -> Audio:
    """The loader where there are no files.

    Raises:
        NotFound: always.
    """
    raise NotFound(f"there is no asset {sha256[:12]}…")
