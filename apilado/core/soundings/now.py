"""What sounds at each moment of a loop: told once for a render, so that a page can show it while it plays.

A moment lasts 25 ms, or a 2048th of a long loop. Its spectrum is measured in windows about it: of 128 ms up to 300 Hz,
of 43 ms above, as the Passage's is.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.breaking_off import may_break_off
from apilado.core.measure.loudness import OFFSET_LKFS, QUIETEST_LKFS, k_weighted, power_before
from apilado.core.measure.passage import energy_grid
from apilado.core.render.graph import reductions_in
from apilado.core.render.stage import Stage, stage
from apilado.core.soundings.asked import heard_drums, stem_stage
from apilado.core.soundings.measures import Measures
from apilado.core.units import gain_to_db, power_to_db

MOMENTS_PER_SECOND, MOST_MOMENTS = 40, 2048
LAST_SECONDS = 3.0
"""Short-term loudness is that of three seconds (EBU Tech 3341); crest is told over as many."""
LOWEST_DB, STEPS_PER_DB = -110.0, 2.0
"""A level is told as a byte: 0 is the lowest, each step half a decibel."""


@dataclass(frozen=True)
class Now:
    """Bytes by moment; levels as `as_bytes` tells them."""

    moments: int
    spectra: dict[str, NDArray[np.uint8]]
    """Of each part that is heard, by its address, 'bus' and 'space' among them: shape (moments, sixth-octaves)."""
    levels: dict[str, NDArray[np.uint8]]
    """Of the same: their level, shape (moments,)."""
    reductions: dict[str, NDArray[np.uint8]]
    """Gain that is taken in half decibels, by the address of the part that takes it."""
    loudness: NDArray[np.uint8]
    """Of the output's last three seconds."""
    crest: NDArray[np.uint8]
    """Of the output's last three seconds, in half decibels."""


def as_bytes(levels_db: NDArray[np.float64]) -> NDArray[np.uint8]:
    """Levels in dB as bytes."""
    return np.clip(np.rint((levels_db - LOWEST_DB) * STEPS_PER_DB), 0, 255).astype(np.uint8)


def moments_of(frames: int, rate_hz: int) -> int:
    """How many moments of a loop are told apart."""
    return int(min(MOST_MOMENTS, max(1, round(frames / rate_hz * MOMENTS_PER_SECOND))))


def now(measures: Measures) -> Now:
    """What sounds at each moment of a stack as it is heard whole."""
    graph, clock, stack = measures.graph, measures.clock, measures.stack
    moments = moments_of(clock.frames, clock.rate_hz)
    parts = {f"layers/{name}": graph.layers[name] for name in measures.stems}
    parts |= {stack.drum_owner(name): graph.drums[name] for name in heard_drums(stack)} | {"bus": graph.buses["bus"]}
    parts |= {name: graph.buses[name] for name in ("space", "shared") if name in graph.buses}
    grids = [stage(energy_grid, sound, stem_stage(sound, clock), columns=moments) for sound in parts.values()]
    taken = reductions_in(graph)
    told: list[Stage] = [stage(last_seconds, graph.output, moments=moments, rate_hz=clock.rate_hz)]
    loud, *found = measures.run_all([*told, *grids, *taken.values()])
    spectra, levels = {}, {}
    for name, power in zip(parts, found, strict=False):
        measures.check()
        spectra[name] = as_bytes(power_to_db(power.T))
        levels[name] = as_bytes(power_to_db(power.sum(axis=0)))
    measures.check()
    reductions = dict(zip(taken, found[len(parts) :], strict=True))
    return Now(
        moments=moments,
        spectra=spectra,
        levels=levels,
        reductions={
            name: _most(np.abs(each), moments) for name, each in reductions.items() if each is not None and each.size
        },
        loudness=as_bytes(loud[0]),
        crest=np.clip(np.rint(loud[1] * STEPS_PER_DB), 0, 255).astype(np.uint8),
    )


def last_seconds(audio: Audio, *, moments: int, rate_hz: int) -> NDArray[np.float64]:
    """(loudness in LKFS, crest factor in dB) of the three seconds before the end of each moment of a loop.

    Returns:
        Shape (2, moments).
    """
    ends = np.linspace(0.0, audio.shape[1], moments + 1).astype(np.int64)
    count = max(1, round(LAST_SECONDS * rate_hz / audio.shape[1] * moments))

    def over(pieces: Iterable[Audio]) -> NDArray[np.float64]:
        """Mean power, both channels added, over the last moments: round and round where the loop is shorter."""
        each = np.diff(power_before(pieces, ends))
        running = np.concatenate([[0.0], np.cumsum(np.tile(each, 1 + -(-count // moments)))])
        last = np.arange(1, moments + 1) + moments * -(-count // moments)
        return np.asarray((running[last] - running[last - count]) * moments / (count * audio.shape[1]))

    loud = np.maximum(OFFSET_LKFS + power_to_db(over(k_weighted(audio, rate_hz, looped=True))), QUIETEST_LKFS)
    rms = np.sqrt(over([audio]) / audio.shape[0])
    may_break_off()
    peaks = np.maximum.reduceat(np.max(np.abs(audio), axis=0), ends[:-1])
    behind = min(count, moments)
    from scipy.ndimage import maximum_filter1d  # loaded when it is first asked for

    highest = maximum_filter1d(peaks, behind, mode="wrap", origin=(behind - 1) // 2)
    there = rms > 1e-6
    crest = np.where(there, gain_to_db(np.where(there, highest, 1.0) / np.where(there, rms, 1.0)), 0.0)
    return np.array([loud, np.maximum(crest, 0.0)])


def _most(taken_db: NDArray[np.floating], moments: int) -> NDArray[np.uint8]:
    """The most that is taken in each moment."""
    taken_db = taken_db.reshape(-1, taken_db.shape[-1]).max(axis=0)  # of several bands, the one that takes most
    frames = taken_db.shape[0]
    starts = np.minimum((np.arange(moments) * frames) // moments, frames - 1)
    return np.clip(np.rint(np.maximum.reduceat(taken_db, starts) * STEPS_PER_DB), 0, 255).astype(np.uint8)
