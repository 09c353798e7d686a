"""What soundings measure, reckoned again with NumPy and SciPy from the rendered samples alone.

Nothing here calls the core. A loop is heard as what it is, a round that goes on for ever: it is laid end to end until a
window or a filter has forgotten where it began.
"""

from __future__ import annotations

import itertools

import numpy as np
from scipy import fft, signal

ROUNDS = 4
G = 10.0**0.3
"""Octave ratio of IEC 61260-1."""


class Lines:
    """The spectrum of a loop, by a Blackman–Harris window over rounds of it: power is twice the mean square."""

    def __init__(self, stem: np.ndarray, rate: int) -> None:
        tiled = np.tile(stem.astype(np.float64), (1, ROUNDS))
        # Silence behind it does not matter under a window that is closed at both ends; a quick length does.
        size = fft.next_fast_len(tiled.shape[1], real=True)
        self.at, found = signal.periodogram(tiled, fs=rate, window="blackmanharris", detrend=False, axis=1, nfft=size)
        self.power = 2.0 * found.mean(axis=0) * self.at[1]
        self.running = np.concatenate([[0.0], np.cumsum(self.power)])

    def between(self, low_hz: float, high_hz: float) -> float:
        first, last = np.searchsorted(self.at, (low_hz, high_hz))
        return float(self.power[first:last].sum())


def whole(stem: np.ndarray) -> float:
    return 2.0 * float(np.mean(stem.astype(np.float64) ** 2))


def db(ratio: float) -> float:
    return float(10.0 * np.log10(max(ratio, 1e-15)))


def below_30(bass: np.ndarray, rate: int) -> tuple[float, float]:
    """At least and at most: a line of the loop next to the edge is spread over it by the window, 4 bins to each side."""
    lines = Lines(bass, rate)
    spread = 4.0 * rate / (ROUNDS * bass.shape[1])
    return tuple(db(lines.between(2.0, edge) / whole(bass)) for edge in (30.0 - spread, 30.0 + spread))


def side_over_mid(bass: np.ndarray, rate: int, border_hz: float) -> float:
    mid, side = (Lines(x, rate).between(20.0, border_hz) for x in (bass[:1] + bass[1:], bass[:1] - bass[1:]))
    return db(side / max(mid, 1e-30))


def phone_loss(bass: np.ndarray, rate: int) -> float:
    """In time: a phone's filters by SciPy over rounds of the loop, the last of them heard: Butterworth's cuts, and the bell
    of the W3C Audio EQ Cookbook."""
    w, a, q = 2.0 * np.pi * 2800.0 / rate, 10.0 ** (4.0 / 40.0), 1.0
    alpha = np.sin(w) / (2.0 * q)
    b_bell, a_bell = (
        [1.0 + alpha * a, -2.0 * np.cos(w), 1.0 - alpha * a],
        [1.0 + alpha / a, -2.0 * np.cos(w), 1.0 - alpha / a],
    )
    filters = [
        signal.butter(4, 250.0, "highpass", fs=rate, output="sos"),
        signal.tf2sos(b_bell, a_bell),
        signal.butter(2, 14000.0, "lowpass", fs=rate, output="sos"),
    ]
    heard = signal.sosfilt(np.vstack(filters), np.tile(bass.astype(np.float64), (1, ROUNDS)), axis=1)
    return -db(whole(heard[:, -bass.shape[1] :]) / whole(bass))


def mud(bass: np.ndarray, rate: int) -> float:
    lines = Lines(bass, rate)

    def level(low: float, high: float) -> float:
        return db(lines.between(low, high) / np.log2(high / low))

    return level(250.0, 400.0) - (level(125.0, 250.0) + level(400.0, 800.0)) / 2.0


def third_edges(count: int) -> np.ndarray:
    """Edges of the first third-octaves from 20 Hz up (IEC 61260-1: 1000·G^(x/3), x from -17)."""
    return 1000.0 * G ** ((np.arange(count + 1) - 17 - 0.5) / 3.0)


def octave_levels(stems: list[np.ndarray], rate: int) -> np.ndarray:
    """Level of each stem in each octave, in dB."""
    edges = third_edges(30)[::3]
    all_lines = [Lines(stem, rate) for stem in stems]
    return np.array([[db(lines.between(a, b)) for a, b in itertools.pairwise(edges)] for lines in all_lines])


def crowd(levels: np.ndarray) -> int:
    """How many layers come within 10 dB of the loudest in the most crowded octave that is within 25 dB of the loudest."""
    top = levels.max(axis=0)
    counts = (levels > top - 10.0).sum(axis=0)
    return int(counts[top > top.max() - 25.0].max())


def crowd_margin(levels: np.ndarray) -> float:
    """How near any of the comparisons of `crowd` is to its limit, in dB: a draw may go either way."""
    top = levels.max(axis=0)
    return float(min(np.abs(levels - top + 10.0).min(), np.abs(top - top.max() + 25.0).min()))


def excesses(stem: np.ndarray, rate: int, fundamental_hz: float) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies from 1.5 to 12 kHz, and how far a sixth of an octave there stands over what lies beside it, in dB."""
    lines = Lines(stem, rate)
    step = 1.0 / 24.0
    centres = 1500.0 * 2.0 ** (step * np.arange(-12, round(np.log2(8.0) / step) + 13))
    half = np.maximum(centres * (2.0 ** (1 / 12) - 1.0), 1.5 * fundamental_hz)
    low, high = np.searchsorted(lines.at, centres - half), np.searchsorted(lines.at, centres + half)
    levels = 10.0 * np.log10((lines.running[high] - lines.running[low]) / (high - low) * centres + 1e-30)
    levels = np.maximum(levels, levels.max() - 150.0)
    found = []
    for i in range(12, len(centres) - 12):
        around = levels[i - 12 : i + 13]
        found.append(levels[i] - max(np.mean(around[:8]), np.mean(around[17:])))
    return centres[12:-12], np.array(found)


def thirds_over_time(stem: np.ndarray, rate: int, columns: int) -> np.ndarray:
    """Power per third-octave and moment: short Hann windows for what lies high, long ones for what lies low."""
    frames = stem.shape[1]
    tiled = np.tile(stem.astype(np.float64), (1, 3))
    edges, out = third_edges(30), np.zeros((30, columns))
    low, high = edges[:-1, None], edges[1:, None]
    for milliseconds, above in ((128.0, False), (43.0, True)):
        size = round(milliseconds * rate / 1000.0)
        at = np.fft.rfftfreq(size, 1 / rate)
        # Every bin as wide as it is: a narrow band has its share of one.
        shares = np.clip(np.minimum(at + at[1] / 2, high) - np.maximum(at - at[1] / 2, low), 0.0, None) / at[1]
        bands = (np.sqrt(edges[:-1] * edges[1:]) > 300.0) == above
        starts = [frames + round((column + 0.5) / columns * frames) - size // 2 for column in range(columns)]
        for column, start in enumerate(starts):
            found = np.abs(fft.rfft(tiled[:, start : start + size] * np.hanning(size), axis=1)) ** 2
            spectrum = found.mean(axis=0) * 32.0 / (3.0 * size * size)
            out[bands, column] = shares[bands] @ spectrum
    return out


def clash(kick: np.ndarray, layers: list[np.ndarray], rate: int, columns: int) -> float:
    """Share of the kick's energy that lies where and when the layers together have as much, in per cent."""
    own = thirds_over_time(kick, rate, columns)
    others = sum(thirds_over_time(layer, rate, columns) for layer in layers)
    return 100.0 * float(np.minimum(own, others).sum() / own.sum())


def turned_gain(kick: np.ndarray, sub: np.ndarray, hits: list[int], rate: int) -> float:
    """By how much kick and sub, from 30 to 140 Hz in the 120 ms after each hit, add up better with the kick turned, dB."""
    count = round(0.12 * rate)
    fall = 0.5 + 0.5 * np.cos(np.pi * np.arange(count) / count)
    sums = np.zeros(2)
    for hit in hits:
        where = np.arange(hit, hit + count) % kick.shape[1]
        k, s = (x[:, where].mean(axis=0).astype(np.float64) * fall for x in (kick, sub))
        for index, sign in enumerate((1.0, -1.0)):
            spectrum = np.fft.rfft(sign * k + s, 1 << 18)
            at = np.fft.rfftfreq(1 << 18, 1 / rate)
            sums[index] += float(np.sum(np.abs(spectrum[(at >= 30.0) & (at <= 140.0)]) ** 2))
    return max(0.0, db(sums[1] / sums[0]))


def fitted(part: np.ndarray, hertz: float, rate: int, harmonics: int) -> np.ndarray:
    """Complex amplitudes of a fundamental and its harmonics in a stretch, by least squares."""
    t = np.arange(part.shape[-1]) / rate
    n = np.arange(1, harmonics + 1)
    n = n[n * hertz < 0.45 * rate]
    waves = np.concatenate(
        [np.cos(2 * np.pi * np.outer(t, n * hertz)), np.sin(2 * np.pi * np.outer(t, n * hertz))], axis=1
    )
    solved = np.linalg.lstsq(waves, part.astype(np.float64), rcond=None)[0]
    return solved[: len(n)] - 1j * solved[len(n) :]
