"""Drawings the size of a word: what a part does, as one line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

SKETCH_POINTS = 33
SKETCH_LOW_DB = -48.0
"""A sketch of levels reaches from here up to full scale, in both directions."""


@dataclass(frozen=True, eq=False)
class Sketch:
    """A line over the width of the sketch, whose heights run from 0 at its bottom to 1 at its top."""

    what: str
    """What the line is, in words."""
    heights: NDArray[np.float64]


def transfer_sketch(outputs: NDArray[np.floating]) -> Sketch:
    """What comes out for inputs from -1 to 1, shape (SKETCH_POINTS,)."""
    return Sketch("transfer curve", np.clip((np.asarray(outputs, np.float64) + 1.0) / 2.0, 0.0, 1.0))


def transfer_inputs() -> NDArray[np.float32]:
    """The inputs of a transfer sketch."""
    return np.linspace(-1.0, 1.0, SKETCH_POINTS, dtype=np.float32)


def level_sketch(reduction_db: NDArray[np.float64], *, made_up_db: float = 0.0) -> Sketch:
    """The level that comes out for levels from SKETCH_LOW_DB up to full scale, given what is taken from each."""
    out = level_inputs() - reduction_db + made_up_db
    return Sketch("level out over level in", np.clip(1.0 - out / SKETCH_LOW_DB, 0.0, 1.0))


def level_inputs() -> NDArray[np.float64]:
    """The input levels of a level sketch, in dB."""
    return np.linspace(SKETCH_LOW_DB, 0.0, SKETCH_POINTS)


def response_sketch(gains_db: NDArray[np.float64], *, span_db: float = 18.0) -> Sketch:
    """Gains over frequency, 20 Hz at the left to 20 kHz at the right."""
    return Sketch("response", np.clip(0.5 + gains_db / (2.0 * span_db), 0.0, 1.0))


FINE_POINTS = 97
"""Of a sketch whose line turns sharply."""
SKETCH_SECONDS = 3.0


def sketch_hertz() -> NDArray[np.float64]:
    """Frequencies of a fine response, 20 Hz at the left to 20 kHz at the right."""
    return np.geomspace(20.0, 20000.0, FINE_POINTS)


def swing_sketch(share: float) -> Sketch:
    """One turn of what swings to and fro, by a share of the height."""
    turned = np.sin(np.linspace(0.0, 2.0 * np.pi, SKETCH_POINTS))
    return Sketch("swing", 0.5 + 0.5 * float(np.clip(share, 0.0, 1.0)) * turned)


def decay_sketch(seconds: float, *, begins_s: float = 0.0) -> Sketch:
    """How something dies away: from full scale to 60 dB below after so many seconds, over three of them."""
    time = np.linspace(0.0, SKETCH_SECONDS, FINE_POINTS)
    falls = np.clip(1.0 - (time - begins_s) / seconds, 0.0, 1.0)
    return Sketch("how it dies away", np.where(time < begins_s, 0.0, falls))


def echo_sketch(echoes: dict[float, float]) -> Sketch:
    """How loud each echo is, by its time in seconds; the last of them is at the right."""
    heights, last = np.zeros(FINE_POINTS), max(echoes, default=1.0)
    for seconds, gain in echoes.items():
        place = min(FINE_POINTS - 2, max(1, round(seconds / last * (FINE_POINTS - 2))))
        heights[place] = max(heights[place], min(1.0, abs(gain)))
    return Sketch("echoes", heights)
