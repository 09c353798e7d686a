"""Two filters within a source: the treatment's own, before anything of the layer. Waves go through them, or past."""

from __future__ import annotations

from typing import Any, Literal

from apilado.core.parameters import choice, parts

MOST_FILTERS = 2
Standing = Literal["in a row", "side by side"]


def filter_list() -> Any:
    """Declares the filters of a source."""
    return parts("filter", most=MOST_FILTERS, ordered=True)


def standing() -> Any:
    """Declares how two of them stand."""
    return choice(
        label="Filters stand", help="In a row the second takes what the first leaves; side by side they add up"
    )
