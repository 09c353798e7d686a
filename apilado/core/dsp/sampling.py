"""Reading recorded sound at other speeds, holding a little of it, and stretching it.

Reading is a windowed sinc (Kaiser, 24 crossings on each side) around each place, cut off at half of the slower of both
rates: J. O. Smith, "Digital Audio Resampling Home Page", CCRMA, Stanford. Stretching is a library's, told to begin the
same way every time.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from python_stretch.Signalsmith import Stretch

from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.kernels import kernel
from apilado.core.kept import Kept

CROSSINGS, STEPS, KAISER_BETA = 24, 512, 10.0
CUTOFF = 0.96
"""Of half of the rate: the window's slope lies over it."""
HIGHEST_SPEED, LOWEST_SPEED = 64.0, 1.0 / 64.0
STRETCH_SEED = 7
MOST_STRETCHED, LEAST_STRETCHED = 8.0, 0.125
"""Longer and shorter than this by the library at once; more is done in several."""


@lru_cache(maxsize=1)
def _lobe() -> NDArray[np.float64]:
    """One side of the windowed sinc, STEPS to a crossing."""
    x = np.arange(CROSSINGS * STEPS + 2) / STEPS
    window = np.i0(KAISER_BETA * np.sqrt(np.maximum(1.0 - (x / CROSSINGS) ** 2, 0.0))) / np.i0(KAISER_BETA)
    return np.where(x < CROSSINGS, np.sinc(x) * window, 0.0)


@kernel
def _read_kernel(audio: Any, places: Any, speeds: Any, lobe: Any, out: Any) -> None:
    frames, last_channel = audio.shape[1], audio.shape[0] - 1
    moving = speeds.shape[0] > 1
    for i in range(places.shape[0]):
        place = places[i]
        if place < -1.0 or place > frames:
            continue
        cut = CUTOFF * min(1.0, 1.0 / max(speeds[i if moving else 0], 1e-9))
        reach = CROSSINGS / cut
        first, last = max(math.ceil(place - reach), 0), min(math.floor(place + reach), frames - 1)
        begin, step, left, right = first - place, cut * STEPS, 0.0, 0.0
        one, other = audio[0, first : last + 1], audio[last_channel, first : last + 1]
        for n in range(one.shape[0]):
            x = abs(begin + n) * step
            j = np.uint32(np.int32(x))
            weight = lobe[j] + (x - j) * (lobe[j + np.uint32(1)] - lobe[j])
            left += weight * one[n]
            right += weight * other[n]
        out[0, i] = cut * left
        out[last_channel, i] = cut * right


def read_at_places(audio: Audio, places: NDArray[np.float64], speeds: float | NDArray[np.float64]) -> Audio:
    """What lies at places between the frames of a sound; nothing before its first and behind its last.

    Args:
        audio: shape (channels, frames).
        places: in frames of it, shape (read,).
        speeds: frames of it per frame that is read, one number or one each: nothing over half of the rate is read.
    """
    out = np.zeros((audio.shape[0], places.shape[0]), np.float32)
    if not (audio.flags.writeable and audio.flags.c_contiguous):  # kernels are compiled anew for each kind of array
        audio = np.array(audio, np.float32, order="C")
    _read_kernel(audio, places, np.atleast_1d(np.asarray(speeds, np.float64)), _lobe(), out)
    return out


def held_places(
    places: NDArray[np.float64], begins: float | NDArray[np.float64], length: float, fade: float
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Places on a way through a sound that is held in a short loop as soon as it has been through that once.

    Args:
        places: ascending, shape (read,).
        begins: where the loop begins, one number or one each: every round begins where that is at its start.
        length: of the loop, in frames.
        fade: how much of its end goes over into its beginning, in frames; no more than lies before it.

    Returns:
        (places, those that are faded to at the end of each round, by how much).
    """
    first = float(np.ravel(begins)[0])
    behind = places - first
    rounds = np.maximum(np.floor(behind / length), 0.0)
    within = behind - rounds * length
    if isinstance(begins, np.ndarray):
        starts = np.searchsorted(rounds, np.arange(rounds[-1] + 2), side="left")
        at_start = begins[np.minimum(starts, begins.shape[0] - 1)]
        here, following = at_start[rounds.astype(int)], at_start[rounds.astype(int) + 1]
    else:
        here = following = np.full(places.shape[0], first)
    fade = min(fade, first, length)
    share = np.clip((within - (length - fade)) / fade, 0.0, 1.0) if fade > 0.0 else np.zeros(places.shape[0])
    return here + within, following + within - length, share


def stretched(audio: Audio, frames: int, rate_hz: int) -> Audio:
    """A sound at another length and the same pitch, shape (channels, frames)."""
    now = audio
    while now.shape[1] and now.shape[1] != frames:
        wanted = min(max(frames / now.shape[1], LEAST_STRETCHED), MOST_STRETCHED) * now.shape[1]
        stretch = Stretch(STRETCH_SEED)
        stretch.preset(now.shape[0], rate_hz)
        stretch.setTimeFactor(now.shape[1] / wanted)
        made = as_audio(np.asarray(stretch.process(np.ascontiguousarray(now, np.float32))))
        length = frames if abs(round(wanted) - frames) <= 1 else round(wanted)
        now = np.pad(made[:, :length], ((0, 0), (0, max(0, length - made.shape[1]))))
    return now


STRETCHES = Kept(128 * 2**20)
"""Stretching is dear, and a piece of a loop needs all of it."""
