"""Clicks: short bursts high above a low sound, where notes begin and end and where a loop joins."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, is_mono, peak_of
from apilado.core.dsp.breaking_off import pieces
from apilado.core.dsp.equaliser import butterworth_high_pass
from apilado.core.dsp.filters import run_sections
from apilado.core.dsp.lead_in import wrapped_tail
from apilado.core.units import gain_to_db, ms_to_samples

ABOVE_HZ, SLOPE = 2000.0, 24
AROUND_MS = 6.0
PIECE = 1 << 16
LEAST_DB = -40.0
"""A burst further than this under the peak of the whole does not count as a click. Own choice: a sine that a release of
10 ms cuts off, or that begins at its peak in 0.8 ms, lies there; common practice calls what is shorter a click."""
OUT_OF_THE_REST_DB = 12.0
"""A sound with harmonics up there has a level there all the time: a click stands out of it."""
LOUDER_THAN, LOUDEST_OF, ONE_IN = 0.995, 0.97, 61
"""The usual level is louder than so many of the frames; one in 61 says how loud the loudest three in a hundred are."""


@dataclass(frozen=True)
class Click:
    """One burst."""

    frame: int
    level_db: float
    """Its peak above 2 kHz against the peak of the whole sound."""


def clicks(audio: Audio, *, moments: tuple[int, ...], rate_hz: int) -> tuple[Click, ...]:
    """The clicks of a looped low sound, shape (2, frames), near some of its frames; the seam is always one of them."""
    peak = peak_of(audio)
    if peak < 1e-4:
        return ()
    # Long enough that the filter has forgotten where it began; filters of a few milliseconds.
    lead = ms_to_samples(40.0, rate_hz)
    heard = audio[:1] if is_mono(audio) else audio
    sections = butterworth_high_pass(ABOVE_HZ, SLOPE, rate_hz)
    _, state = run_sections(wrapped_tail(heard, lead), sections)
    high = np.empty(audio.shape[1], np.float32)
    for begin, end in pieces(audio.shape[1], PIECE):
        piece, state = run_sections(heard[:, begin:end], sections, state)
        np.max(np.abs(piece, out=piece), axis=0, out=high[begin:end])
    reach = ms_to_samples(AROUND_MS, rate_hz)
    places = [np.arange(moment - reach, moment + reach) % high.shape[0] for moment in (0, *moments)]
    loudest = {int(place[np.argmax(high[place])]) for place in places}
    found = [Click(at, float(gain_to_db(float(high[at]) / peak))) for at in loudest]
    loud = [click for click in found if click.level_db > LEAST_DB]
    if not loud:  # what the rest is like is dear to find
        return ()
    near = np.zeros(high.shape[0], bool)
    for place in places:
        near[place] = True
    least = float(gain_to_db(usual_level(high[~near]) / peak)) + OUT_OF_THE_REST_DB
    return tuple(
        sorted((each for each in loud if each.level_db > least), key=lambda each: (-each.level_db, each.frame))
    )


def usual_level(level: NDArray[np.float32]) -> float:
    """The level that it reaches up there where nothing begins or ends: the edge of a saw is short but comes often.

    It is what one frame in two hundred lies above, looked for among those that some of them say are the loudest.
    """
    if not level.size:
        return 0.0
    place = LOUDER_THAN * (level.shape[0] - 1)
    loud = level[level >= np.quantile(level[::ONE_IN], LOUDEST_OF)]
    below = level.shape[0] - loud.shape[0]
    if below > place:  # those that were asked were too loud
        loud, below = level, 0
    return float(np.quantile(loud, (place - below) / max(1, loud.shape[0] - 1)))
