"""Onsets: when something begins in a piece of audio.

The rise of energy in bands, after the spectral flux of S. Dixon, "Onset Detection Revisited" (DAFx 2006), finds them;
the rise of the wave itself places them.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.audio import Audio
from apilado.core.measure.windows import hann
from apilado.core.units import ms_to_samples

WINDOW_MS, HOP_MS = 10.0, 2.0
BANDS_HZ = (0.0, 150.0, 400.0, 1200.0, 3500.0, 9000.0, 24000.0)
BEFORE_MS = 20.0
CLOSEST_MS = 45.0
"""Two onsets nearer than this are one."""
LEAST_RISE = 0.12
"""Of the greatest rise in the piece."""
FLOOR = 1e-4
"""Energy against the loudest moment below which a band counts as silent."""
PART = 4096
"""Windows that are looked at in one go: a long file does not fill the memory."""
LOW_HZ = 150.0
LOW_BEFORE_MS, LOW_AFTER_MS = 40.0, 80.0
AT_LEAST_BY = 1.5
"""Power after against before: a tail that goes on is no rise."""


@dataclass(frozen=True)
class Onset:
    """Where something begins."""

    seconds: float
    strength: float
    """Its rise against the greatest, 0 to 1."""
    low_share: float
    """Of the power that it adds to what sounded before, how much lies under 150 Hz: of a kick, most; of a hat over a
    kick's tail, nothing."""


def onsets(audio: Audio, *, rate_hz: int) -> tuple[Onset, ...]:
    """The onsets in audio of shape (channels, frames), in order."""
    from scipy import signal  # with what it loads itself it takes most of a second
    from scipy.ndimage import maximum_filter1d

    mono = np.mean(audio, axis=0, dtype=np.float64)
    if not np.any(mono):
        return ()
    size, hop = ms_to_samples(WINDOW_MS, rate_hz), ms_to_samples(HOP_MS, rate_hz)
    lead = 2 * size  # silence before the first sample: an onset there is one too
    padded = np.concatenate([np.zeros(lead), mono])
    starts = np.arange(0, padded.shape[0] - size, hop)
    windows = np.lib.stride_tricks.sliding_window_view(padded, size)
    edges = np.minimum((np.array(BANDS_HZ) * size / rate_hz).astype(np.int64), size // 2)[:-1]
    bands = np.empty((starts.shape[0], edges.shape[0]))
    for first in range(0, starts.shape[0], PART):
        some = slice(first, first + PART)
        powers = np.abs(fft.rfft(windows[starts[some]] * hann(size), axis=1)) ** 2
        bands[some] = np.add.reduceat(powers, edges, axis=1)
    levels = np.log10(bands / float(np.max(bands)) + FLOOR)
    # Against the loudest of the moments before (as S. Böck and G. Widmer do it, DAFx 2013, there over frequency): the
    # cycles of a low sound are no onsets. A rise takes half a window to be complete.
    gap, reach = max(1, size // (2 * hop)), round(BEFORE_MS / HOP_MS)
    held = np.concatenate([np.full((gap + reach, levels.shape[1]), np.log10(FLOOR)), levels])
    before = maximum_filter1d(held, 2 * reach + 1, axis=0)[: levels.shape[0]]
    rise = np.sum(np.maximum(levels - before, 0.0), axis=1)
    least = LEAST_RISE * float(np.max(rise))
    apart = round(CLOSEST_MS / HOP_MS)
    halves = [
        signal.sosfilt(signal.butter(4, LOW_HZ, kind, fs=rate_hz, output="sos"), padded) for kind in ("low", "high")
    ]
    found: list[Onset] = []
    for index in np.argsort(-rise, kind="stable"):
        if rise[index] < max(least, 0.2):
            break
        around = rise[max(0, index - apart) : index + apart + 1]
        if rise[index] < np.max(around):
            continue
        at = _placed(padded, int(starts[index]), size, rate_hz)
        seconds = (at - lead) / rate_hz
        if all(abs(seconds - other.seconds) > CLOSEST_MS / 1000.0 for other in found):
            low, high = (_added(half, at, rate_hz) for half in halves)
            share = low / (low + high) if low + high > 0.0 else 0.0
            found.append(Onset(max(0.0, seconds), float(rise[index] / np.max(rise)), share))
    return tuple(sorted(found, key=lambda onset: onset.seconds))


def _placed(padded: NDArray[np.float64], start: int, size: int, rate_hz: int) -> int:
    """The sample at which the level first passes a fifth of what it rises by, near a window."""
    first = max(0, start - size)
    part = np.abs(padded[first : start + 2 * size])
    quick = max(1, round(0.0005 * rate_hz))
    level = np.maximum.reduce([np.roll(part, -shift) for shift in range(0, quick, max(1, quick // 8))])
    before = float(np.max(part[: max(1, size // 2)]))
    peak = float(np.max(level))
    above = np.flatnonzero(level > before + 0.2 * (peak - before))
    return first + int(above[0]) if above.size else start


def _added(half: NDArray[np.float64], at: int, rate_hz: int) -> float:
    """The power that comes in at a sample, over the tail of what sounded before it."""
    before = half[max(0, at - ms_to_samples(LOW_BEFORE_MS, rate_hz)) : at]
    after = half[at : at + ms_to_samples(LOW_AFTER_MS, rate_hz)]
    was, now = (float(np.mean(part**2)) if part.size else 0.0 for part in (before, after))
    return max(0.0, now - AT_LEAST_BY * was)
