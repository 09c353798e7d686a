"""Ducks designed against this kick, at this tempo, for these hits."""

from __future__ import annotations

from dataclasses import dataclass

from apilado.core.document.ducker import Ducker
from apilado.core.document.editing import Edit
from apilado.core.document.edits_values import SetValue
from apilado.core.measure.drums import Fit, fitted_shape
from apilado.core.measure.ducking import RECOVERED_DB
from apilado.core.shapes.base import DuckShape
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.soundings.measures import Measures

USUAL_DEPTH_DB = 9.0
SHALLOWEST_DB, DEEPEST_DB = 3.0, 18.0
ATTACK_MS = 2.0
GAP_SHARE = 0.85
"""Of the shortest gap between hits, for hold and release: the bass is back before the next."""
SHORTEN_BY = 0.9


def longest_recovering(measures: Measures, ducker: Ducker) -> DuckShape | None:
    """The shape of a ducker shortened as little as lets it recover before every next hit, found by running it."""
    shape: DuckShape | None = ducker.shape.shortened(1.0)
    while shape is not None:
        if all(hit.left_db <= RECOVERED_DB for hit in measures.recoveries_with(ducker, shape)):
            return shape
        shape = shape.shortened(SHORTEN_BY)
    return None


@dataclass(frozen=True)
class FittedDuck:
    """A drawn shape made of the decay of a ducker's trigger."""

    shape: DrawnDuck
    fit: Fit
    edit: Edit
    gap_ms: float


def fitted_duck(measures: Measures, ducker: Ducker) -> FittedDuck | None:
    """A drawn shape that follows the decay of the ducker's own trigger, as deep as the ducker is now.

    None where its trigger has no hits.
    """
    recoveries = measures.recoveries.get(ducker.id, ())
    if not recoveries:
        return None
    deepest = max(hit.depth_db for hit in recoveries)
    depth = min(DEEPEST_DB, max(SHALLOWEST_DB, deepest)) if deepest > RECOVERED_DB else USUAL_DEPTH_DB
    gap = min(hit.gap_ms for hit in recoveries)
    envelope = measures.drum_facts(ducker.trigger).envelope_db
    fit = fitted_shape(envelope, depth_db=depth, longest_ms=GAP_SHARE * gap)
    shape = DrawnDuck(
        depth_db=round(depth, 1),
        attack_ms=ATTACK_MS,
        hold_ms=min(1000.0, fit.hold_ms),
        release_ms=min(2000.0, fit.release_ms),
        curve=fit.curve,
    )
    edit = SetValue(path=f"duckers/{ducker.id}/shape", value=shape.model_dump(mode="json"))
    return FittedDuck(shape, fit, edit, gap)
