"""Gain reduction drawn as a shape that each hit starts."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value
from apilado.core.dsp.dynamics import reduced
from apilado.core.dsp.envelopes import rising
from apilado.core.dsp.linear_phase import band_taps

SHORTEST_EDGE_MS = 0.2


def drawn_shape(
    *, depth_db: float, attack_frames: int, hold_frames: int, release_frames: int, curve: float
) -> NDArray[np.float32]:
    """One duck in dB: up to its depth, held, and back; shape (attack + hold + release,).

    Args:
        curve: how the release bends: 0 straight in dB; towards 1 it leaves late, towards -1 it comes back at once and
            lingers. The release is (1 - t)^p with p = 4^(-curve).
    """
    t = (np.arange(release_frames) + 1.0) / max(release_frames, 1)
    back = (1.0 - t) ** (4.0 ** (-curve))
    return (depth_db * np.concatenate([rising(attack_frames), np.ones(hold_frames), back])).astype(np.float32)


def shapes_at(
    shape: NDArray[np.float32], starts: Sequence[int], frames: int, *, looped: bool, lead: int
) -> NDArray[np.float32]:
    """The shape from `lead` frames before each start; where two overlap, the deeper counts. Shape (frames,)."""
    out = np.zeros(frames, np.float32)
    for start in starts:
        place, gone = start - lead, 0
        if not looped:
            place, gone = max(place, 0), max(-place, 0)
        while gone < shape.shape[0] and (looped or place < frames):  # of a loop, as far as its end, then the next round
            deeper = out[place % frames :][: shape.shape[0] - gone]
            np.maximum(deeper, shape[gone : gone + deeper.shape[0]], out=deeper)
            place, gone = place + deeper.shape[0], gone + deeper.shape[0]
    return out


def band_ducked(
    audio: Audio,
    reduction_db: NDArray[np.float32],
    *,
    low_hz: float,
    high_hz: float,
    amount: Value,
    rate_hz: int,
    looped: bool,
) -> Audio:
    """The audio with one band turned down: x - B((1 - g)·B x), B of linear phase; same shape.

    Where nothing is turned down the audio is untouched, and what the moving gain adds outside the band is filtered out
    again. Held down by g, the band's response is 1 - (1 - g)·B², and B² is -6.02 dB at its edges.
    """
    if not np.any(reduction_db) or amount == 0.0:
        return audio
    taps = band_taps(low_hz, high_hz, rate_hz)
    band = taps.run(audio, looped=looped)
    taken = taps.run(band - reduced(band, reduction_db, amount), looped=looped)
    return audio - taken
