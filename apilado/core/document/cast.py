"""A cast: a kept state of a stack, with a name and, if wanted, a line of judgement."""

from __future__ import annotations

from pydantic import Field

from apilado.core.document.stack import Stack
from apilado.core.parameters import Model

MOST_CASTS = 64
LONGEST_NAME, LONGEST_JUDGEMENT = 60, 200


class Cast(Model):
    """A state of a stack that was kept to be heard against others."""

    name: str = Field(min_length=1, max_length=LONGEST_NAME)
    judgement: str = Field(default="", max_length=LONGEST_JUDGEMENT, description="A line, as 'too thin on the phone'")
    stack: Stack
