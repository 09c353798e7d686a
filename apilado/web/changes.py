"""What an edit has changed of what the fields of a page show."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from apilado.core.document.declarations import parameter_at
from apilado.core.document.stack import Stack
from apilado.core.identity import ByIdentity
from apilado.web.pages import formatted

VALUES_IN_LISTS = ("hits", "note_levels_db", "amounts", "silent_bars")
"""Parts of a document whose length does not change which controls there are."""
_FIELDS = ByIdentity(8)


def unsaid(path: str, value: Any) -> Any:
    """What counts as the value of a path that a document does not have: a share that is not told is whole."""
    return 1.0 if "/amounts/" in path else value


@dataclass(frozen=True)
class Fields:
    """What of a stack the fields of a page show."""

    values: dict[str, Any]
    """The plain values by path; a note's field is called by what the note is, and drawn anew with it."""
    shape: Any
    """What sheet and layer list are made of."""


def fields_of(stack: Stack) -> Fields:
    """The fields of a stack, worked out once: an edit is compared with the one before it."""

    def worked_out() -> Fields:
        data = stack.model_dump(mode="json", exclude={"pattern"})
        return Fields(flat(data, "", {}), (shape(data), stack.shared.on))

    def flat(place: Any, path: str, into: dict[str, Any]) -> dict[str, Any]:
        if isinstance(place, dict):
            for key, value in place.items():
                flat(value, f"{path}/{key}", into)
        elif isinstance(place, list):
            for index, value in enumerate(place):
                named = value.get("id", index) if isinstance(value, dict) else index
                flat(value, f"{path}/{named}", into)
        else:
            into[path[1:]] = place
        return into

    def shape(place: Any) -> Any:
        if isinstance(place, dict):
            return {key: shape(value) for key, value in place.items() if key not in VALUES_IN_LISTS}
        if isinstance(place, list):
            return [shape(item) for item in place]
        return place if isinstance(place, str) else None

    return _FIELDS.get(worked_out, stack)


def changed_values(before: Stack, after: Stack) -> dict[str, str]:
    """The plain values that an edit changed, by path, as fields show them."""
    old, new = fields_of(before).values, fields_of(after).values
    told = {path: value for path, value in new.items() if old.get(path, unsaid(path, value)) != value}
    gone = {path: 1.0 for path, value in old.items() if "/amounts/" in path and path not in new and value != 1.0}
    return {path: formatted(value, parameter_at(after, path)) for path, value in {**told, **gone}.items()}


def same_shape(before: Stack, after: Stack) -> bool:
    """Whether sheet and layer list still have the same controls: only plain values differ."""
    return bool(fields_of(before).shape == fields_of(after).shape)
