"""Placing a layer: width, mono, balance, polarity, delay and level in one pass."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_stereo
from apilado.core.dsp.breaking_off import PIECE, pieces
from apilado.core.dsp.curves import Curve, Value, per_frame
from apilado.core.dsp.designs import kaiser_shape, taps_needed
from apilado.core.dsp.kernels import summing_kernel
from apilado.core.dsp.lead_in import with_ends
from apilado.core.dsp.oversampling import add_filtered

SINC_TAPS, SINC_BETA = 64, 6.0
SHARES = 256
SMALLEST_SHARE = 1e-4
"""A fraction of a frame this small is none: it is 2 ns."""


def placed(
    audio: Audio,
    *,
    width: Value,
    mono: bool,
    pan: Value,
    gain: float | NDArray[np.float32],
) -> Audio:
    """The audio on its place in the stereo image; shape (2, frames).

    Args:
        audio: shape (1 or 2, frames).
        width: factor on the side signal, 0 mono to 2.
        mono: both channels become the same samples, and `pan` is not applied: the side is exactly zero.
        pan: balance -1 to 1; the far channel is turned down linearly, the near one stays.
        gain: factor on both channels, one or one per frame; negative inverts the polarity.
    """
    if mono:
        one = audio[0] if audio.shape[0] == 1 else np.float32(0.5) * (audio[0] + audio[1])
        one = np.asarray(one * np.asarray(gain, np.float32), np.float32)
        return as_stereo(one.reshape(1, -1))
    found = np.empty((2, audio.shape[1]), np.float32)
    turned = audio.shape[0] == 2 and (isinstance(width, Curve) or width != 1.0)
    values = [np.asarray(each) for each in (per_frame(width), per_frame(pan), np.asarray(gain, np.float32))]
    for first, end in pieces(audio.shape[1]):
        widths, leaning, gains = [each[first:end] if each.ndim else each for each in values]
        sides, out = found[:, first:end], as_stereo(audio[:, first:end])
        if turned:
            half, side = np.float32(0.5), out[0] - out[1]
            side *= half * widths.astype(np.float32)
            np.add(out[0], out[1], out=sides[0])
            sides[0] *= half
            np.subtract(sides[0], side, out=sides[1])
            sides[0] += side
            out = sides
        for channel, lean in ((0, -leaning), (1, leaning)):
            near = np.minimum(1.0, 1.0 + lean).astype(np.float32)
            np.multiply(out[channel], gains if near.ndim == 0 and near == 1.0 else near * gains, out=sides[channel])
    return found


def moved(audio: Audio, frames: Value, *, looped: bool) -> Audio:
    """The audio later (earlier if negative) by a number of frames, whole or not; same shape.

    What leaves a loop at one end comes in at the other. A fraction of a frame is a windowed sinc of 64 taps, its delay
    exact, flat within 0.1 dB up to 0.45 of the rate. A delay that moves reads every frame where it then lies.
    """
    if isinstance(frames, Curve):
        return read_at(audio, np.arange(audio.shape[1]) - frames.per_frame(), looped=looped)
    whole = math.floor(frames + 0.5)
    share = frames - whole
    if abs(share) <= SMALLEST_SHARE:
        return _shifted(audio, whole, looped=looped)
    if whole > 0:  # what the sinc reaches before the first frame stays in
        return _between(_shifted(audio, whole, looped=looped), share, looped=looped)
    return _shifted(_between(audio, share, looped=looped), whole, looped=looped)


def _shifted(audio: Audio, frames: int, *, looped: bool) -> Audio:
    """The audio later by whole frames."""
    if frames == 0:
        return audio
    if looped:
        return np.roll(audio, frames, axis=1)
    out = np.zeros_like(audio)
    kept = max(0, audio.shape[1] - abs(frames))
    if frames > 0:
        out[:, frames : frames + kept] = audio[:, :kept]
    else:
        out[:, :kept] = audio[:, audio.shape[1] - kept :]
    return out


def sinc_taps(share: float) -> NDArray[np.float64]:
    """The windowed sinc that is later by a share of a frame, -0.5 to 0.5: by which each of 64 frames goes in."""
    return _low_pass_taps(share, SINC_TAPS // 2, 1.0, SINC_BETA)


def _low_pass_taps(share: float, half: int, points_per_frame: float, beta: float) -> NDArray[np.float64]:
    """The windowed sinc, so many taps on either side, that passes half a cycle a point, later by a share of a frame."""
    x = np.arange(half - 1, -half - 1, -1) - share
    window = np.i0(beta * np.sqrt(np.maximum(0.0, 1.0 - (x / half) ** 2))) / np.i0(beta)
    taps = np.sinc(points_per_frame * x) * window
    return np.asarray(taps / np.sum(taps))


@lru_cache(maxsize=8)
def _tap_table(
    half: int = SINC_TAPS // 2, points_per_frame: float = 1.0, beta: float = SINC_BETA, shares: int = SHARES
) -> NDArray[np.float32]:
    """Taps for shares from -0.5 to 0.5 in steps; between them they are interpolated."""
    steps = np.linspace(-0.5, 0.5, shares + 1)
    return np.stack([_low_pass_taps(share, half, points_per_frame, beta) for share in steps]).astype(np.float32)


@summing_kernel
def _read_kernel(audio: Any, places: Any, taps: Any, looped: Any, out: Any) -> None:
    frames, half, shares = audio.shape[1], taps.shape[1] // 2, taps.shape[0] - 1
    for n in range(out.shape[1]):
        nearest = np.int64(np.ceil(places[n] - 0.5))
        place = (nearest - places[n] + 0.5) * shares
        step = min(np.int64(place), shares - 1)
        between = np.float32(place - step)
        for c in range(audio.shape[0]):
            first = nearest - (half - 1)
            low, high = np.float32(0.0), np.float32(0.0)
            if first >= 0 and first + 2 * half <= frames:
                near, row, next_row = audio[c, first : first + 2 * half], taps[step], taps[step + 1]
                for tap in range(2 * half):
                    low += row[tap] * near[tap]
                    high += next_row[tap] * near[tap]
            else:
                for tap in range(2 * half):
                    at = first + tap
                    if looped:
                        at %= frames
                    elif at < 0 or at >= frames:
                        continue
                    low += taps[step, tap] * audio[c, at]
                    high += taps[step + 1, tap] * audio[c, at]
            out[c, n] = low + between * (high - low)


def read_at(audio: Audio, places: NDArray[np.float64], *, looped: bool) -> Audio:
    """The audio as it is at places between its frames, one for each frame that is made; shape (channels, places)."""
    out = np.empty((audio.shape[0], places.shape[0]), np.float32)
    _read_kernel(np.ascontiguousarray(audio), places, _tap_table(), looped, out)
    return out


THIN_DB, THIN_SHARES = 100.0, 32
"""How far what would fold lies below, and in how many steps the taps lie: few, since they change slowly."""
POINTS_AT_A_TIME = 1 << 12
"""Between two questions whether it is still wanted."""


def read_thinly(audio: Audio, points: int, passed: float) -> Audio:
    """A loop at far fewer points of its round than it has frames, evenly, from its first frame on.

    What lies up to `passed` cycles a point, which are less than a half, is as it was; what would fold onto it lies
    under -100 dB. Shape (channels, points).
    """
    channels, frames = audio.shape
    density = points / frames
    half = (taps_needed(THIN_DB, 2.0 * (1.0 - 2.0 * passed) * density) + 1) // 2
    taps = _tap_table(half, density, kaiser_shape(THIN_DB), THIN_SHARES)
    audio, out = np.ascontiguousarray(audio), np.empty((channels, points), np.float32)
    for first, end in pieces(points, POINTS_AT_A_TIME):
        some = np.empty((channels, end - first), np.float32)
        _read_kernel(audio, np.arange(first, end) / density, taps, True, some)
        out[:, first:end] = some
    return out


FURTHEST_OFF, LONGEST_BLOCK = 0.008, 256
"""Within a block of points that are read together, none lies further beside the middle one than that, in frames: what a
straight line leaves out is then under -75 dB at 20 kHz."""
EVEN_TAPS, EVEN_BETA = 48, 7.0
"""Of the middle of a block."""
SLOPE_TAPS, SLOPE_BETA = 32, 4.5
"""Of how they change, which need not be as right. Of noise up to 20 kHz at 44.1 kHz they are off by -73 dB."""


@summing_kernel
def _read_evenly_kernel(
    x: Any, frames_per_point: float, block: int, taps: Any, changing: Any, start: int, end: int, out: Any
) -> None:
    """Block by block: the taps of its middle, and how they change from there as a straight line, for all its points."""
    frames, count, half = x.shape[0], taps.shape[1], taps.shape[1] // 2
    shares, drift = taps.shape[0] - 1, np.float32(1.0 - frames_per_point)
    still, sloping, later = (
        np.empty(count, np.float32),
        np.empty(changing.shape[1], np.float32),
        half - changing.shape[1] // 2,
    )
    evens, slopes, around = (
        np.empty(block, np.float32),
        np.empty(block, np.float32),
        np.empty(block + count, np.float32),
    )
    for begin in range(start, end, block):
        points = min(block, end - begin)
        place = (begin + points // 2) * frames_per_point
        nearest = np.int64(np.ceil(place - 0.5))
        share = (nearest - place + 0.5) * shares
        step = min(max(np.int64(share), 0), shares - 1)
        between, row, next_row = np.float32(share - step), taps[step], taps[step + 1]
        for tap in range(count):
            still[tap] = row[tap] + between * (next_row[tap] - row[tap])
        for tap in range(sloping.shape[0]):
            sloping[tap] = np.float32(shares) * (changing[step + 1, tap] - changing[step, tap])
        even, sloped = evens[:points], slopes[:points]
        even[:], sloped[:] = np.float32(0.0), np.float32(0.0)
        first = nearest - points // 2 - (half - 1)
        if first >= 0 and first + points + count <= frames:
            add_filtered(x, first, still, even)
            add_filtered(x, first + later, sloping, sloped)
        else:
            for n in range(points + count - 1):
                around[n] = x[(first + n) % frames]
            add_filtered(around, 0, still, even)
            add_filtered(around, later, sloping, sloped)
        some = out[begin : begin + points]
        for n in range(points):
            some[n] = even[n] + np.float32(n - points // 2) * drift * sloped[n]


def read_evenly(signal: NDArray[np.float32], out: NDArray[np.float32]) -> None:
    """A loop as it is at places of equal distance around it, one for each of the points to be written, shape (points,).

    There are nearly as many as it has frames, so that they move on beside its frames slowly.
    """
    frames_per_point = signal.shape[0] / out.shape[0]
    drift = max(abs(1.0 - frames_per_point), 1e-9)
    block = int(min(max(2.0 * FURTHEST_OFF / drift, 8.0), LONGEST_BLOCK))
    signal = np.ascontiguousarray(signal)
    taps, changing = _tap_table(EVEN_TAPS // 2, 1.0, EVEN_BETA), _tap_table(SLOPE_TAPS // 2, 1.0, SLOPE_BETA)
    for first, end in pieces(out.shape[0], PIECE // block * block):
        _read_evenly_kernel(signal, frames_per_point, block, taps, changing, first, end, out)


def _between(audio: Audio, share: float, *, looped: bool) -> Audio:
    """The audio later by a share of a frame, -0.5 to 0.5."""
    half, taps = SINC_TAPS // 2, sinc_taps(share).astype(np.float32)
    out = np.zeros_like(audio)
    for channel in range(audio.shape[0]):
        padded = with_ends(audio[channel : channel + 1], half, looped=looped)[0]
        add_filtered(padded, 1, taps, out[channel])
    return out


def mixed_at(total: Audio, part: Audio, at: int, *, looped: bool) -> None:
    """Adds a part to `total` in place from frame `at`; what passes the end of a loop goes on from its start.

    What is not looped may begin before the first frame, and loses what lies there.
    """
    frames = total.shape[1]
    if looped:
        at %= frames
        done = 0
        while done < part.shape[1]:
            count = min(frames - at, part.shape[1] - done)
            total[:, at : at + count] += part[:, done : done + count]
            done, at = done + count, 0
    elif at < frames:
        part, at = part[:, max(0, -at) :], max(0, at)
        count = min(frames - at, part.shape[1])
        total[:, at : at + count] += part[:, :count]
