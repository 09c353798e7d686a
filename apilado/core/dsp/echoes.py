"""Delay lines: echoes that come back filtered, and short lines whose length swings.

A line is read between its frames by a polynomial through six of them (Lagrange): flat within 0.1 dB up to a fifth of
the rate. A line of a whole number of frames is read as it is.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, greatest, least, rows
from apilado.core.dsp.kernels import summing_kernel
from apilado.core.dsp.lead_in import led_in

FEWEST_FRAMES = 4.0
"""A line is no shorter: so much is read ahead of a place."""
READ_AHEAD = 3
TOGETHER = 16
"""So many frames are read at once where no line is as short."""
LINE_FORGOTTEN_DB = 120.0


@summing_kernel
def _read(row: Any, place: int, late: float) -> Any:
    """What went into a line so many frames before the one at `place`.

    Args:
        row: the line twice, end to end, so that around any place in the second there is what lies around it.
        place: in the second.
    """
    whole = int(late)
    t = late - whole
    k = place - whole
    # Nodes at -2, -1, 0, 1, 2, 3 frames further back; t lies between 0 and 1.
    a, b, d, e, f = t + 2.0, t + 1.0, t - 1.0, t - 2.0, t - 3.0
    ab, ef, td = a * b, e * f, t * d
    inner = ab * ef * (t * row[k - 1] - d * row[k]) * (1.0 / 12.0)
    beside = a * f * (e * row[k + 1] - b * row[k - 2]) * (1.0 / 24.0)
    outer = b * e * (a * row[k - 3] - f * row[k + 2]) * (1.0 / 120.0)
    return inner + td * (beside + outer)


@summing_kernel
def _echo_kernel(
    x: Any, at: Any, rows: Any, low: float, high: float, crossed: bool, state: Any, line: Any, y: Any
) -> None:
    last, size = at.shape[0] - 1, line.shape[1] // 2
    place = int(state[0, 0])
    still = last == 0 and rows[0, 0] == int(rows[0, 0]) and rows[0, 1] == int(rows[0, 1])
    low_l, low_r, high_l, high_r = state[1, 0], state[1, 1], state[2, 0], state[2, 1]
    left_row, right_row = line[0], line[1]
    for k in range(at.shape[0]):
        end = at[k + 1] if k < last else x.shape[1]
        span = max(1, end - at[k])
        left, right, back = rows[k, 0], rows[k, 1], rows[k, 2]
        left_step = (rows[k + 1, 0] - left) / span if k < last else 0.0
        right_step = (rows[k + 1, 1] - right) / span if k < last else 0.0
        back_step = (rows[k + 1, 2] - back) / span if k < last else 0.0
        for n in range(at[k], end):
            if still:
                a, b = left_row[place - int(left)], right_row[place - int(right)]
            else:
                a, b = _read(left_row, place, left), _read(right_row, place, right)
            high_l += high * (a - high_l)
            high_r += high * (b - high_r)
            low_l += low * (high_l - low_l)
            low_r += low * (high_r - low_r)
            a, b = high_l - low_l, high_r - low_r
            y[0, n], y[1, n] = a, b
            if crossed:
                a, b = 0.5 * (x[0, n] + x[1, n]) + back * b, back * a
            else:
                a, b = x[0, n] + back * a, x[1, n] + back * b
            a = a if abs(a) > 1e-20 else 0.0
            b = b if abs(b) > 1e-20 else 0.0
            left_row[place] = left_row[place - size] = a
            right_row[place] = right_row[place - size] = b
            place = place + 1 if place + 1 < 2 * size else size
            left += left_step
            right += right_step
            back += back_step
    state[0, 0] = place
    state[1, 0], state[1, 1], state[2, 0], state[2, 1] = low_l, low_r, high_l, high_r


def forgotten_seconds(longest_s: float, feedback: float) -> float:
    """After how long what comes back after so long and so strong is under -120 dB."""
    rounds = LINE_FORGOTTEN_DB / max(1e-3, -20.0 * math.log10(min(max(feedback, 1e-6), 0.9999)))
    return longest_s * (1.0 + rounds)


def _line(longest: float) -> NDArray[np.float64]:
    """Two empty lines, each twice end to end."""
    return np.zeros((2, 2 * (math.ceil(longest) + 8)))


def _one_pole(hertz: float, rate_hz: int) -> float:
    return 1.0 - math.exp(-2.0 * math.pi * hertz / rate_hz)


def echoed(
    audio: Audio,
    late_frames: tuple[Value, Value],
    feedback: Value,
    *,
    low_cut_hz: float,
    high_cut_hz: float,
    crossed: bool,
    rate_hz: int,
    looped: bool,
    rings_s: float,
) -> Audio:
    """The echoes of a sound alone, shape (2, frames); each has gone through the filters once more than the one before.

    Args:
        audio: shape (2, frames).
        late_frames: of the left and of the right.
        low_cut_hz: of 6 dB per octave, 0 for none; as the high cut, which is none at half of the rate.
        crossed: the middle goes into the left line alone, and what comes out of either goes into the other.
        rings_s: for how long they are heard: so much of the rounds before a loop is run through the lines first.
    """
    longest = max(greatest(each) for each in late_frames)
    line, state = _line(longest), np.zeros((3, 2))
    state[0, 0] = line.shape[1] // 2
    low = _one_pole(low_cut_hz, rate_hz) if low_cut_hz > 0.0 else 0.0
    high = _one_pole(high_cut_hz, rate_hz) if high_cut_hz < rate_hz / 2.0 else 1.0

    def run(sound: Audio, values: Sequence[Value]) -> Audio:
        out = np.empty((2, sound.shape[1]), np.float32)
        _echo_kernel(sound, *rows(values), low, high, crossed, state, line, out)
        return out

    values = (*late_frames, feedback)
    return led_in(run, audio, values, math.ceil(rings_s * rate_hz) if looped else 0)


@summing_kernel
def _swing_kernel(
    x: Any, at: Any, rows: Any, voices: int, share: float, together: int, state: Any, line: Any, y: Any
) -> None:
    last, size = at.shape[0] - 1, line.shape[1] // 2
    place = int(state[0])
    step, now, heard = np.zeros(rows.shape[1]), np.zeros(rows.shape[1]), np.zeros(together)
    for k in range(at.shape[0]):
        end = at[k + 1] if k < last else x.shape[1]
        span = max(1, end - at[k])
        for column in range(rows.shape[1]):
            now[column] = rows[k, column]
            step[column] = (rows[k + 1, column] - now[column]) / span if k < last else 0.0
        n = at[k]
        while n < end:
            # What is read so many frames back is there before any of these frames are written.
            count = min(together, end - n, 2 * size - place)
            for channel in range(2):
                row = line[channel]
                heard[:count] = 0.0
                for voice in range(voices):
                    late, change = now[channel * voices + voice], step[channel * voices + voice]
                    for i in range(count):
                        heard[i] += _read(row, place + i, late + i * change)
                back, change = now[2 * voices] / voices, step[2 * voices] / voices
                for i in range(count):
                    y[channel, n + i] = heard[i] * share
                    written = x[channel, n + i] + (back + i * change) * heard[i]
                    written = written if abs(written) > 1e-20 else 0.0
                    row[place + i] = row[place + i - size] = written
            for column in range(rows.shape[1]):
                now[column] += count * step[column]
            n += count
            place = place + count if place + count < 2 * size else size
    state[0] = place


def swinging(
    audio: Audio, late_frames: Sequence[Value], feedback: Value, *, rate_hz: int, looped: bool, rings_s: float
) -> Audio:
    """The sum of voices that come late by lines whose length swings, at the level of one; shape (2, frames).

    Args:
        audio: shape (2, frames).
        late_frames: of each voice on the left, then of each on the right.
        feedback: how much of their mean goes into the lines again.
    """
    voices = len(late_frames) // 2
    longest = max(greatest(each) for each in late_frames)
    line = _line(longest)
    state = np.full(1, line.shape[1] // 2)
    together = TOGETHER if min(least(each) for each in late_frames) >= TOGETHER + READ_AHEAD else 1

    def run(sound: Audio, values: Sequence[Value]) -> Audio:
        out = np.empty((2, sound.shape[1]), np.float32)
        _swing_kernel(sound, *rows(values), voices, voices**-0.5, together, state, line, out)
        return out

    return led_in(run, audio, (*late_frames, feedback), math.ceil(rings_s * rate_hz) if looped else 0)
