"""Polyphase oversampling for nonlinear stages: linear phase, latency removed, so a dry/wet blend does not comb.

The prototype is a Kaiser-windowed sinc, flat to 0.43 and closed from 0.51 of the base rate (-90 dB), the same up and
down: whatever a nonlinearity throws beyond half the base rate is removed before it can fold back below 0.49 of it.
At 44.1 kHz that is flat to 19 kHz, and what folds lies above 21.6 kHz.

A curve whose integral is known can be averaged between neighbouring samples instead of being read at them (first-order
antiderivative antialiasing: J. Parker, V. Zavalishin, E. Le Bivic, DAFx 2016). Its values lie half a sample late and
lose cos(ω/2); the last halving takes both back (`between_taps`), so that a blend with the dry sound does not comb.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_audio, largest, peak_of
from apilado.core.dsp.breaking_off import may_break_off
from apilado.core.dsp.designs import sinc_taps_for
from apilado.core.dsp.kernels import free_kernel, inlined, kernel
from apilado.core.dsp.lead_in import taken_out

PASS_EDGE, STOP_EDGE, STOP_DB = 0.43, 0.51, 90.0
TAPS_PER_PHASE = 72
DELAY = TAPS_PER_PHASE - 1
HALF_BAND_TAPS, BETWEEN_TAPS = (6, 4), (11, 7)
MARGIN, PIECE = 16, 16384
"""Base frames at either end that the half-band filters may spoil."""
PEAK_PAIRS, PEAK_PIECE, PEAK_CONTEXT = 32, 2**16, 64
PEAK_BLOCK, PEAK_EDGE = 256, 8
"""So many frames are looked at together, and so many more at either end are doubled for the finer steps."""
NEAR = 10.0 ** (-4.0 / 20.0)
NO_TAPS: NDArray[np.float32] = np.zeros(0, np.float32)
Shaper = Callable[[NDArray[np.float32]], NDArray[np.float32]]
_BLOCK = 2048


@lru_cache(maxsize=4)
def phase_filters(factor: int) -> NDArray[np.float32]:
    """The prototype cut into phases, shape (factor, TAPS_PER_PHASE), gain 1 in every phase at 0 Hz."""
    length = factor * DELAY + 1  # up and down together then delay by exactly DELAY frames of the base rate
    taps = sinc_taps_for(length, (PASS_EDGE + STOP_EDGE) / factor, STOP_DB)
    padded = np.zeros(factor * TAPS_PER_PHASE)
    padded[:length] = taps * factor
    phases = padded.reshape(TAPS_PER_PHASE, factor).T
    return np.ascontiguousarray(phases, dtype=np.float32)


@free_kernel
def add_filtered(x: Any, start: int, taps: Any, out: Any) -> None:
    """out[n] += Σ taps[k] · x[start + n + k]; the number of taps is a multiple of 8."""
    frames = out.shape[0]
    for block in range(0, frames, _BLOCK):
        end = min(frames, block + _BLOCK)
        for k in range(0, taps.shape[0], 8):
            t0, t1, t2, t3 = taps[k], taps[k + 1], taps[k + 2], taps[k + 3]
            t4, t5, t6, t7 = taps[k + 4], taps[k + 5], taps[k + 6], taps[k + 7]
            # Slices indexed from 0 let the compiler drop the checks for negative indices and vectorise.
            near = x[start + k + block : start + k + end + 7]
            sums = out[block:end]
            for n in range(sums.shape[0]):
                sums[n] += (
                    t0 * near[n]
                    + t1 * near[n + 1]
                    + t2 * near[n + 2]
                    + t3 * near[n + 3]
                    + t4 * near[n + 4]
                    + t5 * near[n + 5]
                    + t6 * near[n + 6]
                    + t7 * near[n + 7]
                )


@kernel
def run_up(x: Any, filters: Any, out: Any) -> None:
    """A signal at twice the rate, or more: each phase of it by its taps, shape (phases, frames)."""
    # Phase p of the oversampled signal: taps reversed, since the convolution runs backwards over x.
    for p in range(filters.shape[0]):
        add_filtered(x, 0, filters[p, ::-1].copy(), out[p])


@kernel
def run_down(shaped: Any, first: int, filters: Any, out: Any) -> None:
    """Adds a signal that comes in phases, from one of their frames on, to `out`, at the rate of one of them."""
    factor = filters.shape[0]
    scaled = filters / np.float32(factor)
    for p in range(factor):
        # Sample n·factor of the convolution takes phase p of the filter from phase -p of the signal.
        source = (factor - p) % factor
        add_filtered(shaped[source], first + 1 if p == 0 else first, scaled[p, ::-1].copy(), out)


@lru_cache(maxsize=2)
def half_band_taps(octaves_up: int) -> NDArray[np.float32]:
    """Taps c of a half-band interpolator: between x[n] and x[n+1] lies Σ c[k]·(x[n-k] + x[n+1+k]).

    A Kaiser-windowed sinc of -90 dB. What it has to tell apart lies ever further apart the higher the rate is
    already: at `octaves_up` = 1 (2× to 4×) half the base rate against three halves of it.
    """
    count = HALF_BAND_TAPS[octaves_up - 1]
    taps = sinc_taps_for(4 * count - 1, 0.5, STOP_DB)[2 * count :: 2]
    taps = 0.5 * taps / np.sum(taps)
    return np.asarray(taps, dtype=np.float32)


@free_kernel
def _add_pairs(x: Any, shift: int, taps: Any, out: Any) -> None:
    """out[n] += Σ taps[k] · (x[n + shift - 1 - k] + x[n + shift + k]) where all of x is there; elsewhere nothing."""
    count = taps.shape[0]
    first, last = max(0, count - shift), min(out.shape[0], x.shape[0] - count - shift + 1)
    for block in range(first, last, _BLOCK):
        end = min(last, block + _BLOCK)
        sums = out[block:end]
        for k in range(count):
            tap = taps[k]
            near, far = x[block + shift - 1 - k :], x[block + shift + k :]
            for n in range(sums.shape[0]):
                sums[n] += tap * (near[n] + far[n])


def interleaved(even: NDArray[np.float32], odd: NDArray[np.float32]) -> NDArray[np.float32]:
    """The signal of so many even samples and as many odd ones."""
    signal = np.empty(2 * even.shape[0], np.float32)
    _put_together(even, odd, signal)
    return signal


def apart(signal: NDArray[np.float32]) -> NDArray[np.float32]:
    """The even samples of a signal and the odd ones; shape (2, half of the frames)."""
    planes = np.empty((2, signal.shape[0] // 2), np.float32)
    _take_apart(signal, planes)
    return planes


@kernel
def _put_together(even: Any, odd: Any, signal: Any) -> None:
    for n in range(even.shape[0]):
        signal[2 * n], signal[2 * n + 1] = even[n], odd[n]


@kernel
def _take_apart(signal: Any, planes: Any) -> None:
    for n in range(planes.shape[1]):
        planes[0, n], planes[1, n] = signal[2 * n], signal[2 * n + 1]


@lru_cache(maxsize=2)
def between_taps(octaves_up: int) -> NDArray[np.float32]:
    """Taps c that halve the rate of values lying between samples: Σ c[k]·(z[-½-k] + z[½+k]), by least squares.

    Wanted is 1/cos(ω/2) where the sound lies and nothing where it would fold onto it.
    """
    count, edge = BETWEEN_TAPS[octaves_up - 1], np.pi / 2.0 ** (octaves_up + 1)
    passed, stopped = np.linspace(0.0, edge, 400), np.linspace(np.pi - edge, np.pi, 400)
    at = np.concatenate([passed, stopped])
    waves = 2.0 * np.cos(np.outer(at, np.arange(count) + 0.5))
    wanted = np.concatenate([1.0 / np.cos(passed / 2.0), np.zeros(400)])
    return np.asarray(np.linalg.lstsq(waves, wanted, rcond=None)[0], np.float32)


@free_kernel
def _halve_between(after_even: Any, after_odd: Any, taps: Any, out: Any) -> None:
    """out[n] += Σ taps[k]·(z[2n-1-k] + z[2n+k]), z lying after even and odd samples by turns, where it reaches."""
    count = taps.shape[0]
    reach = (count + 1) // 2
    for block in range(reach, out.shape[0] - reach, _BLOCK):
        end = min(out.shape[0] - reach, block + _BLOCK)
        sums = out[block:end]
        for k in range(count):
            tap = taps[k]
            if k % 2 == 0:
                near, far = after_odd[block - 1 - k // 2 :], after_even[block + k // 2 :]
            else:
                near, far = after_even[block - (k + 1) // 2 :], after_odd[block + (k - 1) // 2 :]
            for n in range(sums.shape[0]):
                sums[n] += tap * (near[n] + far[n])


@inlined
def _level(room: Any, frames: int, times: int) -> Any:
    """Where a piece of so many frames is worked on at so many times its rate: even samples and odd ones."""
    return room[(times - 2) * frames : (2 * times - 2) * frames].reshape(2, times * frames // 2)


@kernel
def _risen(piece: Any, filters: Any, taps: Any, finer_taps: Any, factor: int, room: Any) -> Any:
    """A piece at 2, 4 or 8 times its rate: its even samples and its odd ones, but for what the first filter leaves."""
    frames, times = piece.shape[0] - DELAY, 2
    planes = _level(room, frames, times)
    planes[:, :] = 0.0
    run_up(piece, filters, planes)
    while times < factor:
        times *= 2
        finer = _level(room, frames, times)
        _put_together(planes[0], planes[1], finer[0])
        finer[1, :] = 0.0
        _add_pairs(finer[0], 1, taps if times == 4 else finer_taps, finer[1])
        planes = finer
    return planes


@kernel
def _fallen(
    shaped: Any,
    filters: Any,
    taps: Any,
    finer_taps: Any,
    between_taps: Any,
    factor: int,
    room: Any,
    first: int,
    out: Any,
) -> None:
    """Adds to `out` what has risen in a room, from a frame on, back at its own rate.

    Args:
        between_taps: for the first halving, where `shaped` lies between samples; none where it does not.
    """
    planes, frames, half = shaped, 2 * shaped.shape[1] // factor, np.float32(0.5)
    while factor > 2:
        halved = _level(room, frames, factor)[0]
        if between_taps.shape[0]:
            halved[:] = 0.0
            _halve_between(planes[0], planes[1], between_taps, halved)
            between_taps = between_taps[:0]
        else:
            even = planes[0]
            for n in range(halved.shape[0]):
                halved[n] = half * even[n]
            _add_pairs(planes[1], 0, half * (taps if factor == 4 else finer_taps), halved)
        factor //= 2
        planes = _level(room, frames, factor)
        _take_apart(halved, planes)
    run_down(planes, first, filters, out)


class Running:
    """A shaper that remembers: of pieces that overlap, each goes on in the state that the one before had there."""

    def __init__(
        self,
        run: Callable[[NDArray[np.float32], Any, int], tuple[NDArray[np.float32], Any]],
        state: Any,
        factor: int,
        *,
        between: bool = False,
    ) -> None:
        """
        Args:
            run: (signal, state, place) => what comes of the signal, and the state before that place of it.
            state: at the beginning.
            factor: how many times the rate it runs at.
            between: what comes at a sample is a mean over the way to it, and belongs before it.
        """
        self._run, self._state, self._between = run, state, between
        # What the filters may have spoiled at the beginning of a piece would spoil what is remembered.
        self._piece, self._spoiled = (PIECE * factor, MARGIN * factor) if factor > 1 else (0, 0)

    def __call__(self, signal: NDArray[np.float32]) -> NDArray[np.float32]:
        """The next piece: one row, or its even and its odd samples."""
        flat = signal.reshape(-1) if signal.ndim == 1 or signal.shape[0] == 1 else interleaved(*signal)
        out = np.zeros_like(flat)
        out[self._spoiled :], self._state = self._run(flat[self._spoiled :], self._state, self._piece)
        if self._between:
            out = np.append(out[1:], np.float32(0.0))
        return out.reshape(signal.shape) if flat.shape[0] == signal.shape[-1] else apart(out)


def oversampled(
    audio: Audio,
    factor: int,
    shaper: Shaper,
    *,
    looped: bool,
    between: Shaper | None = None,
    rough_frames: int = 0,
) -> Audio:
    """Runs a memoryless `shaper` at `factor` times the rate.

    The first doubling is sharp (`phase_filters`); the further ones need only keep its images away.

    Args:
        audio: shape (channels, frames).
        factor: 1, 2, 4 or 8; at 1 the shaper runs as it is.
        shaper: maps an array of any shape to one of the same shape, sample by sample.
        looped: the signal continues round the loop; otherwise it is silent before and after.
        between: the same curve averaged between neighbours, from planes of even and odd samples to planes of what lies
            after each: used from 4 times on, where its half sample of delay can be taken back.
        rough_frames: so many at the beginning are shaped at the rate itself.
    """
    audio = as_audio(audio)
    if factor == 1:
        return as_audio(shaper(audio))
    if factor not in (2, 4, 8):
        raise ValueError(f"oversampling is 1, 2, 4 or 8 times, not {factor}")
    filters = phase_filters(2)
    frames = audio.shape[1]
    # Up and down together delay by DELAY base frames, taken back here by giving that much of what follows.
    before, after = TAPS_PER_PHASE + MARGIN, DELAY + MARGIN
    halvings = (half_band_taps(1), half_band_taps(2))
    means = NO_TAPS if between is None or factor == 2 else between_taps(factor // 4)
    shape = between if means.shape[0] and between else shaper
    out = np.zeros_like(audio)
    rough_frames = min(rough_frames, frames)
    if rough_frames:
        out[:, :rough_frames] = shaper(audio[:, :rough_frames])
    room = np.empty((2 * factor - 2) * (PIECE + before + after - DELAY), np.float32)
    for channel in range(audio.shape[0]):
        # In pieces that fit the processor's cache, with all that comes of them.
        for start in range(rough_frames, frames, PIECE):
            may_break_off()
            end = min(frames, start + PIECE)
            piece = taken_out(audio[channel], start - before, end + after, looped=looped)
            shaped = as_planes(shape(_risen(piece, filters, *halvings, factor, room)))
            _fallen(shaped, filters, *halvings, means, factor, room, MARGIN, out[channel, start:end])
    return out


def interpolated_peak(signal: NDArray[np.float32], *, looped: bool = False) -> float:
    """Largest magnitude of a signal between its samples, interpolated eight times.

    The first doubling leaves nothing over 0.53 of the rate. Beside a crest of what it makes lies a sample that is at
    most 3.5 dB under it: the two further steps look only beside what comes within 4 dB of the largest that was found,
    and nothing is doubled where no sum of its samples could be as large.

    Args:
        signal: shape (frames,).
        looped: it goes on round its seam; else there is silence before and after, into which it may ring.
    """
    first, last = (0, signal.shape[0]) if looped else (-PEAK_CONTEXT, signal.shape[0] + PEAK_CONTEXT)
    peak, taps = peak_of(signal), (peak_taps(), finest_taps())
    for begin in range(first, last, PEAK_PIECE) if signal.shape[0] else ():
        may_break_off()
        end = min(begin + PEAK_PIECE, last)
        piece = taken_out(signal, begin - PEAK_CONTEXT, end + PEAK_CONTEXT, looped=looped)
        peak = float(_peak_within(np.ascontiguousarray(piece, np.float32), peak, *taps, largest_between()))
    return peak


@free_kernel
def _finest(doubled: Any, first: int, last: int, peak: float, taps: Any) -> float:
    """The largest magnitude at the quarters beside samples that come near the peak, where it is over the peak.

    A crest between two samples has one of them beside it that neither of its own neighbours exceeds.
    """
    for n in range(first, last):
        here = abs(doubled[n])
        if here > NEAR * peak and here >= abs(doubled[n - 1]) and here >= abs(doubled[n + 1]):
            for before in (n - 1, n):
                near = doubled[before - 9 : before + 11]
                for quarter in range(taps.shape[0]):
                    total, row = np.float32(0.0), taps[quarter]
                    for k in range(row.shape[0]):
                        total += row[k] * near[k]
                    peak = max(peak, float(abs(total)))
    return peak


@free_kernel
def _peak_within(piece: Any, peak: float, taps: Any, finest: Any, most: float) -> float:
    """The peak of a piece, of which `PEAK_CONTEXT` frames at either end do not count, as far as it is over another.

    Args:
        most: how many times as large as the samples what lies between two of them can be.
    """
    ends, last, pairs = PEAK_CONTEXT, piece.shape[0] - PEAK_CONTEXT, taps.shape[0]
    for first in range(ends, last, PEAK_BLOCK):
        begin, end = first - PEAK_EDGE, min(first + PEAK_BLOCK, last) + PEAK_EDGE
        around = piece[begin - pairs + 1 : end + pairs]
        if most * largest(around) <= peak:
            continue
        between, doubled = np.zeros(end - begin, np.float32), np.empty(2 * (end - begin), np.float32)
        _add_pairs(around, pairs, taps, between)
        _put_together(piece[begin:end], between, doubled)
        inner = 2 * PEAK_EDGE, doubled.shape[0] - 2 * PEAK_EDGE
        peak = max(peak, float(largest(doubled[inner[0] : inner[1]])))
        peak = _finest(doubled, inner[0], inner[1], peak, finest)
    return peak


@lru_cache(maxsize=1)
def largest_between() -> float:
    """How many times as large as its samples a signal can be between them, as it is interpolated here, and a hair."""
    impulse = np.zeros(8 * PEAK_PAIRS, np.float32)
    impulse[4 * PEAK_PAIRS] = 1.0
    for taps in (peak_taps(), half_band_taps(1), half_band_taps(2)):
        impulse = _twice(impulse, taps)
    return 1.001 * float(np.max(np.sum(np.abs(impulse.reshape(-1, 8)), axis=0)))


@lru_cache(maxsize=1)
def finest_taps() -> NDArray[np.float32]:
    """Taps that make the three points at quarters between a sample and the next of a doubled signal; shape (3, 20).

    The signal is doubled twice by half-band taps; tap k is that of the sample k - 9 places on.
    """
    impulses = np.zeros((20, 64), np.float32)
    impulses[np.arange(20), 32 + np.arange(20) - 9] = 1.0
    finest = [_twice(_twice(each, half_band_taps(1)), half_band_taps(2)) for each in impulses]
    return np.ascontiguousarray(np.stack(finest, axis=1)[4 * 32 + 1 : 4 * 32 + 4], np.float32)


def _twice(signal: NDArray[np.float32], taps: NDArray[np.float32]) -> NDArray[np.float32]:
    """The signal at twice the rate by half-band taps: its own samples, and those between them."""
    between = np.zeros_like(signal)
    _add_pairs(signal, 1, taps, between)
    return interleaved(signal, between)


@lru_cache(maxsize=1)
def peak_taps() -> NDArray[np.float32]:
    """Half-band taps for the first doubling of `interpolated_peak`: -60 dB, a transition from 0.47 to 0.53."""
    taps = sinc_taps_for(4 * PEAK_PAIRS - 1, 0.5, 60.0)[2 * PEAK_PAIRS :: 2]
    return np.asarray(0.5 * taps / np.sum(taps), dtype=np.float32)


def as_planes(shaped: NDArray[np.floating]) -> NDArray[np.float32]:
    """Oversampled planes as contiguous float32."""
    return np.ascontiguousarray(shaped, dtype=np.float32)
