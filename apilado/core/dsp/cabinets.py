"""Impulse responses of boxes with a speaker in them, made from resonances, and sounds through any response.

A box is a cascade of resonances and cuts, and behind it the breaking up of its cone: many short modes that lie close
together, whose places are drawn once from a seed. None was measured from anything.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from apilado.core.dsp.agreement import MOST_MOVED_MS, Fit, best_fit
from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.dsp.designs import convolution
from apilado.core.dsp.equaliser import bell
from apilado.core.dsp.filters import butterworth_qs, filtered, high_pass, in_cascade, low_pass
from apilado.core.dsp.lead_in import with_ends
from apilado.core.dsp.stereo import moved
from apilado.core.units import ms_to_samples

LEVEL_FROM_HZ, LEVEL_TO_HZ = 80.0, 2000.0
"""Over which a box gives what goes in, on the mean in octaves."""
MODES_SEED = 29
LONGEST_RESPONSE_S = 10.0


@dataclass(frozen=True)
class Box:
    """A box: what it passes, where it resonates, how its cone breaks up."""

    name: str
    low_hz: float
    """Below it falls at 12 dB per octave; with `low_q` it booms just there."""
    low_q: float
    high_hz: float
    """Above it falls at 24 dB per octave."""
    resonances: tuple[tuple[float, float, float], ...]
    """(Hz, dB, Q) of each."""
    breakup: tuple[float, float, float, float]
    """(from Hz, to Hz, ms until 60 dB down, dB) of its modes."""
    seconds: float = 0.12


BOXES = {
    "boathouse": Box(
        "Boathouse",
        48.0,
        1.1,
        4200.0,
        ((95.0, 3.5, 1.4), (310.0, -4.0, 1.0), (740.0, 2.0, 1.8), (2300.0, 5.0, 1.6)),
        (1500.0, 5200.0, 9.0, -19.0),
    ),
    "bilge": Box(
        "Bilge",
        34.0,
        1.5,
        1900.0,
        ((58.0, 4.0, 1.6), (210.0, -3.0, 0.9), (900.0, -5.0, 0.8)),
        (700.0, 2200.0, 14.0, -24.0),
    ),
    "wheelhouse": Box(
        "Wheelhouse",
        90.0,
        0.8,
        5600.0,
        ((160.0, 2.0, 1.2), (450.0, -2.5, 1.3), (1250.0, 4.0, 2.2), (3100.0, 6.5, 2.0)),
        (2200.0, 7000.0, 7.0, -16.0),
    ),
    "net-loft": Box(
        "Net loft",
        60.0,
        0.7,
        8200.0,
        ((120.0, 1.5, 0.8), (520.0, -2.0, 0.7), (4600.0, 3.5, 1.1)),
        (3000.0, 11000.0, 5.0, -20.0),
    ),
    "crate": Box(
        "Crate",
        190.0,
        2.4,
        3400.0,
        ((260.0, 7.0, 3.5), (690.0, 6.0, 5.0), (1480.0, 8.0, 6.0), (2600.0, -6.0, 2.0)),
        (900.0, 4200.0, 22.0, -14.0),
    ),
    "gantry-horn": Box(
        "Gantry horn",
        420.0,
        1.3,
        6200.0,
        ((640.0, 5.0, 2.5), (1150.0, 6.5, 3.0), (1900.0, 4.0, 3.0), (3600.0, -4.0, 2.5)),
        (1200.0, 6500.0, 12.0, -17.0),
    ),
}


@lru_cache(maxsize=32)
def box_response(box: Box, rate_hz: int) -> Audio:
    """The impulse response of a box, shape (1, frames): it begins with its first frame."""
    frames = round(box.seconds * rate_hz)
    impulse = np.zeros((1, frames), np.float32)
    impulse[0, 0] = 1.0
    sections = in_cascade(
        high_pass(box.low_hz, box.low_q, rate_hz),
        *[low_pass(box.high_hz, q, rate_hz) for q in butterworth_qs(4)],
        *[bell(hertz, db, q, rate_hz) for hertz, db, q in box.resonances],
    )
    found = filtered(impulse, sections, looped=False)[0].astype(np.float64)
    found += _breakup(box, frames, rate_hz)
    found *= np.hanning(2 * frames)[frames:] ** 0.5
    response: Audio = (found / _level(found, rate_hz)).astype(np.float32).reshape(1, -1)
    response.flags.writeable = False
    return response


def _breakup(box: Box, frames: int, rate_hz: int) -> np.ndarray:
    low, high, ms, db = box.breakup
    chance = np.random.default_rng(MODES_SEED)
    count = 24
    hertz = np.geomspace(low, high, count) * 2.0 ** chance.uniform(-0.06, 0.06, count)
    signs, shares = chance.choice((-1.0, 1.0), count), chance.uniform(0.4, 1.0, count)
    time = np.arange(frames) / rate_hz
    envelope = 10.0 ** (-3.0 * time / (ms / 1000.0))
    # Each as loud as a share of what an impulse holds of a band as wide as the mode is.
    size = 10.0 ** (db / 20.0) * 2.0 * np.pi * hertz / rate_hz
    modes = np.sin(2.0 * np.pi * np.outer(hertz, time)) * (signs * shares * size)[:, None]
    return np.asarray(np.sum(modes, axis=0) * envelope)


def _level(response: np.ndarray, rate_hz: int) -> float:
    """Its gain from LEVEL_FROM_HZ to LEVEL_TO_HZ: the mean power in octaves."""
    size = 1 << 15
    spectrum = np.abs(np.fft.rfft(response, size)) ** 2
    at = np.geomspace(LEVEL_FROM_HZ, LEVEL_TO_HZ, 200) * size / rate_hz
    return float(np.sqrt(np.mean(np.interp(at, np.arange(spectrum.shape[0]), spectrum))))


def fits_of(responses: list[Audio], rate_hz: int) -> list[Fit]:
    """How each response is moved, earlier too, and turned over so that it agrees best with the first."""
    room, frames = ms_to_samples(MOST_MOVED_MS, rate_hz), max(each.shape[1] for each in responses)
    padded = [np.pad(each, ((0, 0), (room, frames - each.shape[1] + room))) for each in responses]
    return [best_fit(padded[0], each, rate_hz) for each in padded]


def later(response: Audio, frames: float) -> Audio:
    """A response so many frames later, whole or not; it grows by as much."""
    if frames <= 0.0:
        return response
    return moved(np.pad(response, ((0, 0), (0, math.ceil(frames) + 1))), frames, looped=False)


def summed(responses: list[Audio]) -> Audio:
    """The sum of responses of any lengths, in two channels if any has two."""
    channels, frames = max(each.shape[0] for each in responses), max(each.shape[1] for each in responses)
    total = np.zeros((channels, frames), np.float32)
    for each in responses:
        total[:, : each.shape[1]] += each
    return total


def convolved(audio: Audio, response: Audio, *, looped: bool, early: int = 0) -> Audio:
    """A sound through an impulse response; in two channels if either has two, as long as the sound.

    Args:
        early: so many frames of the response come before the sound itself.
    """
    if audio.shape[0] < response.shape[0]:
        audio = np.repeat(audio, 2, axis=0)
    reach = response.shape[1] - 1
    padded = with_ends(audio, max(reach, early), looped=looped)
    first = max(reach, early) - reach + early
    return as_audio(convolution(padded[:, first : first + reach + audio.shape[1]], response, mode="valid"))
