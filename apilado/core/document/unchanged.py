"""What an edit leaves as it was stays the very same object: what was worked out of it before is known of it still."""

from __future__ import annotations

from typing import Any, TypeVar

from pydantic import BaseModel

M = TypeVar("M", bound=BaseModel)


def with_old_parts(old: Any, before: Any, data: Any) -> Any:
    """A document as plain values, in which every part that is as it was is that of the old one: it has been checked.

    Args:
        before: the old one as plain values.
    """
    if data == before:
        return old
    if isinstance(old, BaseModel) and isinstance(data, dict):
        known = {name: (getattr(old, name), before[name]) for name in data if name in before}
        return {name: with_old_parts(*known[name], each) if name in known else each for name, each in data.items()}
    if isinstance(old, tuple) and isinstance(data, list):
        both = enumerate(zip(old, before, strict=True))
        found = {_called(place, each[1]): each for place, each in both}
        named = [(found.get(_called(place, each)), each) for place, each in enumerate(data)]
        return [each if pair is None else with_old_parts(*pair, each) for pair, each in named]
    return data


def _called(place: int, member: Any) -> Any:
    return member.get("id", place) if isinstance(member, dict) else place


def kept_from(old: M, new: M) -> M:
    """A new document in which everything that is equal in an old one is that of the old one: the lists too, which are
    made anew where something is checked.

    Members of a list are found again by their ids, or by their places where they have none. It is compared as far down
    as it differs.
    """
    found: M = _kept(old, new)
    return found


def _kept(old: Any, new: Any) -> Any:
    if new is old or type(new) is not type(old):
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
