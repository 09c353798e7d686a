"""Parts of a document that are listed, and the ids that tell them apart."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any, ClassVar

from pydantic import Field

from apilado.core.parameters import Model

ID_PATTERN = r"^[a-z0-9-]+$"
LONGEST_ID = 40
LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
"""Those that are not taken for one another when they are read."""
ID_LENGTH = 8


def new_id() -> str:
    """An id that no part has had or will have: an id that came again would turn old pointers to another part."""
    return "".join(secrets.choice(LETTERS) for _ in range(ID_LENGTH))


def steady_id(place: str) -> str:
    """The id of a part of a document that was written before parts had any: the same at every reading."""
    number = int.from_bytes(hashlib.blake2b(place.encode(), digest_size=8).digest())
    return "".join(LETTERS[number // len(LETTERS) ** power % len(LETTERS)] for power in range(ID_LENGTH))


class Part(Model):
    """What stands in a list of a document: it is addressed by its id, wherever it stands."""

    first_values: ClassVar[Mapping[str, Any]] = MappingProxyType({})
    """The values with which one that is added begins, where they are not the defaults."""

    added_by: ClassVar[str] = ""
    """The edit by which one is added, where it does not simply begin."""

    id: str = Field(default_factory=new_id, min_length=1, max_length=LONGEST_ID, pattern=ID_PATTERN)
