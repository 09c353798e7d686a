"""The stack's long-term balance against its target, and against a finished piece."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from apilado.core.assets import AssetLoader
from apilado.core.document.carving import FROM_PIECE
from apilado.core.dsp.audio import as_stereo
from apilado.core.measure.balance import (
    Comparison,
    PieceMeasures,
    against_curve,
    against_piece,
    measure_piece,
    piece_of,
)
from apilado.core.render.stage import stage
from apilado.core.soundings.carving import target_curve
from apilado.core.soundings.measures import Measures

Levels = NDArray[np.float64]


def _loaded(*, asset: str, rate_hz: int, load: AssetLoader) -> PieceMeasures:
    return measure_piece(as_stereo(load(asset, rate_hz)), rate_hz=rate_hz)


def mix_measures(measures: Measures) -> PieceMeasures:
    """The whole mix, measured as a piece."""
    stem = measures.measured(measures.graph.output)
    return piece_of(stem, measures.output_loudness)


def reference_measures(measures: Measures) -> PieceMeasures | None:
    """The finished piece, measured once; None if the stack has none."""
    reference = measures.stack.reference
    if reference is None:
        return None
    rate, context = measures.clock.rate_hz, {"load": measures.load}
    found: PieceMeasures = measures.run(stage(_loaded, asset=reference.asset, rate_hz=rate, context=context))
    return found


def curve_of_target(measures: Measures) -> Levels:
    """The levels in dB per third-octave that the stack's target asks for, up to a constant: ours, or the piece's."""
    piece = reference_measures(measures) if measures.stack.target == FROM_PIECE else None
    return piece.levels_db if piece is not None else target_curve(measures.stack.target)


def balance_against_target(measures: Measures) -> Comparison:
    """The bass against the target's curve."""
    return against_curve(measures.bass, curve_of_target(measures))


def balance_against_piece(measures: Measures) -> Comparison | None:
    """The whole mix against the finished piece at equal loudness; None if there is none."""
    other = reference_measures(measures)
    if other is None:
        return None
    return against_piece(mix_measures(measures), other)
