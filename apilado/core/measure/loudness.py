"""Loudness and true peak after ITU-R BS.1770."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, peak_of
from apilado.core.dsp.breaking_off import pieces
from apilado.core.dsp.filters import Sections, loop_state, power_behind, run_sections
from apilado.core.dsp.kernels import kernel, summing_kernel
from apilado.core.dsp.oversampling import interpolated_peak
from apilado.core.units import gain_to_db

ABSOLUTE_GATE_LKFS, RELATIVE_GATE_LU = -70.0, -10.0
OFFSET_LKFS = -0.691
POWER_BLOCK = 1 << 16
BLOCK_SECONDS, HOP_SECONDS = 0.4, 0.1
ROUNDS = 16
"""Of a loop, which has the loudness of its endless repetition: BS.1770 on one round is up to 1.9 LU off that."""
QUIETEST_LKFS = -150.0


@dataclass(frozen=True)
class Loudness:
    """Of a whole signal."""

    integrated_lkfs: float
    momentary_max_lkfs: float
    true_peak_dbtp: float
    crest_db: float
    dc: float
    """Mean of the channel that is furthest off zero."""


def k_weighting(rate_hz: int) -> Sections:
    """The two stages of the K curve at any rate, by the bilinear transform of their analogue prototypes.

    At 48 kHz these are the coefficients of BS.1770-5, tables 1 and 2; the prototype values are those that reproduce
    the tables (B. De Man, "Evaluation of implementations of the EBU R128 loudness measurement", AES 145, 2018).
    """
    shelf_hz, shelf_db, shelf_q = 1681.9744509555319, 3.99984385397, 0.7071752369554193
    k = math.tan(math.pi * shelf_hz / rate_hz)
    high = 10.0 ** (shelf_db / 20.0)
    band = high**0.499666774155
    a0 = 1.0 + k / shelf_q + k * k
    shelf = [
        (high + band * k / shelf_q + k * k) / a0,
        2.0 * (k * k - high) / a0,
        (high - band * k / shelf_q + k * k) / a0,
        2.0 * (k * k - 1.0) / a0,
        (1.0 - k / shelf_q + k * k) / a0,
    ]
    pass_hz, pass_q = 38.13547087613982, 0.5003270373253953
    k = math.tan(math.pi * pass_hz / rate_hz)
    a0 = 1.0 + k / pass_q + k * k
    # The tables give the numerator 1, -2, 1 without normalising it; at other rates the same gain is kept.
    k_48 = math.tan(math.pi * pass_hz / 48000.0)
    b = (1.0 + k_48 / pass_q + k_48 * k_48) / a0
    cut = [b, -2.0 * b, b, 2.0 * (k * k - 1.0) / a0, (1.0 - k / pass_q + k * k) / a0]
    return np.array([shelf, cut])


def loop_power(audio: Audio, rate_hz: int) -> float:
    """The K-weighted power of a loop, all channels together, not gated: what its loudness is the logarithm of."""
    return power_behind(audio, k_weighting(rate_hz))


def k_weighted(audio: Audio, rate_hz: int, *, looped: bool) -> Iterator[Audio]:
    """The K-weighted audio piece by piece: nothing as long as it is made for a few numbers."""
    sections = k_weighting(rate_hz)
    state = loop_state(audio, sections) if looped else None
    for begin, end in pieces(audio.shape[1], POWER_BLOCK):
        weighted, state = run_sections(audio[:, begin:end], sections, state)
        yield weighted


@summing_kernel
def _squares(audio: Any, first: int, last: int) -> float:
    """The sum of the squares of all samples from one frame to before another."""
    total = 0.0
    for channel in range(audio.shape[0]):
        samples = audio[channel][first:last]
        for frame in range(samples.shape[0]):  # by number: many at a time
            total += np.float64(samples[frame]) * np.float64(samples[frame])
    return total


@kernel
def _add_up(audio: Any, total: float, ends: Any, sums: Any) -> float:
    """Adds the squares of all channels up, upon a total; what they are up to each end is noted."""
    frame = 0
    for place in range(ends.shape[0]):
        total += _squares(audio, frame, ends[place])
        frame = ends[place]
        sums[place] = total
    return total + _squares(audio, frame, audio.shape[1])


def true_peak(audio: Audio, *, looped: bool = False) -> float:
    """Largest magnitude of the signal interpolated eight times; BS.1770-5 annex 2 asks for four at least.

    A loop is taken round its seam; a single pass has silence before and after.
    """
    return max((interpolated_peak(channel, looped=looped) for channel in audio), default=0.0)


def block_powers(audio: Audio, rate_hz: int, *, looped: bool = False) -> NDArray[np.float64]:
    """Summed mean square of the K-weighted channels in blocks of 400 ms, one every 100 ms.

    Of a loop, those of so many rounds of it, one behind the other: its blocks begin at other places in every round.
    """
    frames, hop, block = audio.shape[1], round(HOP_SECONDS * rate_hz), round(BLOCK_SECONDS * rate_hz)
    starts = np.arange(0, frames * (ROUNDS if looped else 1) - block + 1, hop)
    rounds, rests = np.divmod(np.stack([starts, starts + block]), max(frames, 1) if looped else frames + 1)
    # Only where a block begins or ends is it asked for, and at the end of a round.
    asked, places = np.unique(np.append(rests, frames), return_inverse=True)
    sums = power_before(k_weighted(audio, rate_hz, looped=looped), asked)
    before, after = rounds * sums[-1] + sums[places[:-1].reshape(rests.shape)]
    return np.asarray((after - before) / block)


def power_before(pieces: Iterable[Audio], places: NDArray[np.int64]) -> NDArray[np.float64]:
    """The squares of all samples that lie before each of some frames, ascending, of a sound that comes in pieces."""
    sums, noted, total, begin = np.zeros(places.shape[0]), 0, 0.0, 0
    for piece in pieces:
        end = begin + piece.shape[1]
        upto = int(np.searchsorted(places, end, side="right"))
        total = _add_up(piece, total, places[noted:upto] - begin, sums[noted:upto])
        noted, begin = upto, end
    return sums


def _lkfs(power: float) -> float:
    return OFFSET_LKFS + 10.0 * math.log10(power) if power > 1e-15 else QUIETEST_LKFS


def measure_loudness(audio: Audio, *, rate_hz: int, looped: bool = False) -> Loudness:
    """Integrated (gated) and greatest momentary loudness, true peak and crest factor; shape (2, frames).

    Of a loop it is that of its endless repetition, and its true peak is taken round its seam.
    """
    powers = block_powers(audio, rate_hz, looped=looped)
    loud = powers[powers > 10.0 ** ((ABSOLUTE_GATE_LKFS - OFFSET_LKFS) / 10.0)]
    integrated = QUIETEST_LKFS
    if loud.size:
        gate = float(np.mean(loud)) * 10.0 ** (RELATIVE_GATE_LU / 10.0)
        integrated = _lkfs(float(np.mean(loud[loud > gate])))
    peak = true_peak(audio, looped=looped)
    rms = math.sqrt(_squares(audio, 0, audio.shape[1]) / audio.size) if audio.size else 0.0
    return Loudness(
        integrated_lkfs=integrated,
        momentary_max_lkfs=_lkfs(float(np.max(powers, initial=0.0))),
        true_peak_dbtp=float(gain_to_db(peak)),
        crest_db=float(gain_to_db(peak_of(audio) / rms)) if rms > 0.0 else 0.0,
        dc=float(np.max(np.abs(np.mean(audio, axis=1, dtype=np.float64)))) if audio.size else 0.0,
    )
