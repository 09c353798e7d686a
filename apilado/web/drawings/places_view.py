"""Other systems as small piles side by side: what each leaves of a layer solid, what it takes away outlined."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from apilado.core.measure.bands import band_centres
from apilado.core.measure.stem import THIRD
from apilado.core.soundings.elsewhere import LeftThere
from apilado.core.soundings.measures import Measures
from apilado.web.drawings.small_pile import small_pile

SHOWN_DB = 30.0
"""A third-octave that is so much quieter than the loudest of its place has nothing left of its slab."""
SILENT_LU = -60.0


@dataclass(frozen=True)
class PlaceShown:
    """One place."""

    key: str
    label: str
    told: str
    drawing: str
    numbers: tuple[str, ...]
    """By how much each layer is louder or quieter there, in the order of the rows; the whole bass comes last."""
    lost: tuple[bool, ...]
    """Whether little of it is left."""


@dataclass(frozen=True)
class PlacesView:
    """All places; of each layer that is heard a row, from the top of the pile down."""

    rows: tuple[tuple[str, str], ...]
    """(tint, name)."""
    places: tuple[PlaceShown, ...]


def places_view(measures: Measures, found: Sequence[LeftThere]) -> PlacesView:
    """What is left of a stack on other systems, drawn."""
    layers = [layer for layer in reversed(measures.stack.layers) if layer.id in measures.stems]
    centres = band_centres(THIRD)
    widths = {name: stem.widths_told() for name, stem in measures.stems.items()}
    shown = []
    for there in found:
        left = np.clip(1.0 + (there.passes_db - np.max(there.passes_db)) / SHOWN_DB, 0.0, 1.0)
        numbers = [*[there.layers[layer.id] for layer in layers], there.bass_lu]
        shown.append(
            PlaceShown(
                key=there.place.key,
                label=there.place.label,
                told=there.place.told,
                drawing=small_pile(measures.stack, widths, left=dict(zip(map(float, centres), left, strict=True))),
                numbers=tuple(_number(each) for each in numbers),
                lost=tuple(each < -10.0 for each in numbers),
            )
        )
    return PlacesView(tuple((layer.tint, layer.name) for layer in layers), tuple(shown))


def _number(change_lu: float) -> str:
    if change_lu < SILENT_LU:
        return "gone"
    return f"{change_lu:+.0f}".replace("-", "−").replace("+0", "0").replace("−0", "0")
