"""What is kept of a frozen layer: its source and its path as audio, for each rate that was asked for."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from apilado.core.assets import SHA256_PATTERN
from apilado.core.parameters import Model

MOST_RATES = 3
PRINT_PATTERN = r"^[0-9a-f]{32}$"
Sha = Annotated[str, Field(pattern=SHA256_PATTERN)]


class FrozenSound(Model):
    """A layer behind its path at one rate."""

    rate_hz: int = Field(ge=8000, le=192000)
    of: str = Field(pattern=PRINT_PATTERN, description="Print of all that it was made of; another sounds otherwise")
    loop: Sha
    one_pass: Sha
