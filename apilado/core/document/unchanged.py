"""What an edit leaves as it was stays the very same object: what was worked out of it before is known of it still."""

from __future__ import annotations

from typing import Any, TypeVar

from pydantic import BaseModel

M = TypeVar("M", bound=BaseModel)


def kept_from(old: M, new: M) -> M:
    """A new document in which everything that is equal in an old one is that of the old one.

    Members of a list are found again by their ids, or by their places where they have none. It is compared as far down
    as it differs.
    """
    found: M = _kept(old, new)
    return found


def _kept(old: Any, new: Any) -> Any:
    if type(new) is not type(old):
        return new
    if new == old:
        return old
    if isinstance(new, BaseModel):
        return new.model_copy(update={name: _kept(getattr(old, name), value) for name, value in new})
    if isinstance(new, tuple):
        before = {_name_of(place, each): each for place, each in enumerate(old)}
        return tuple(_kept(before.get(_name_of(place, each)), each) for place, each in enumerate(new))
    return new


def _name_of(place: int, member: Any) -> Any:
    return getattr(member, "id", place)
