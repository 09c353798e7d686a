"""How a voice goes along its notes: its pitch over a run, and values that move over it."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel

from apilado.core.clock import Clock
from apilado.core.dsp.curves import Curve, Value
from apilado.core.dsp.envelopes import CUT_MS, adsr, rising
from apilado.core.kept import Kept
from apilado.core.notes import Run
from apilado.core.sources.voice import Envelope
from apilado.core.units import cents_to_ratio, midi_to_hz

RUNS = Kept(64 * 2**20)
"""Basslines say the same note again and again, and an edit leaves most notes as they were."""


def stands_still(part: Any) -> bool:
    """Whether nothing of a part moves."""
    if isinstance(part, BaseModel):
        return all(stands_still(value) for value in part.__dict__.values())
    return all(map(stands_still, part)) if isinstance(part, tuple) else not isinstance(part, Curve)


def in_run(value: Value, run: Run, frames: int) -> float | NDArray[np.float64]:
    """A value from the start of a run on, round the end of a loop: a number, or one per frame."""
    if not isinstance(value, Curve):
        return value
    found = np.interp((run.start + np.arange(frames)) % value.frames, value.at, value.values)
    # What stands still over a run is played as what stands still.
    return float(found[0]) if found.size and np.ptp(found) == 0.0 else found


def shifted(
    track: float | NDArray[np.float64], pitches: float | NDArray[np.float64], cents: float
) -> float | NDArray[np.float64]:
    """A track of frequencies higher by pitches, each of so many cents."""
    if isinstance(pitches, float) and pitches == 0.0:
        return track
    return track * cents_to_ratio(np.asarray(pitches) * cents)


def glide_track(run: Run, transpose: int, glide_ms: float, clock: Clock, frames: int) -> float | NDArray[np.float64]:
    """Frequency of a run in Hz: one number, or one per frame where it glides (straight in semitones)."""
    pitches = [(at, pitch + transpose) for at, pitch in run.pitches]
    if len(pitches) == 1:
        return float(midi_to_hz(float(pitches[0][1])))
    track = np.full(frames, float(pitches[0][1]))
    for (_, before), (at, pitch) in itertools.pairwise(pitches):
        if at >= frames:
            break
        glide = min(clock.samples_in_ms(glide_ms), frames - at)
        track[at : at + glide] = np.linspace(before, pitch, glide, endpoint=False)
        track[at + glide :] = pitch
    return midi_to_hz(track)


def run_frames(run: Run, env: Envelope, clock: Clock, *, gate_frames: int | None = None) -> int:
    """For how long a run sounds, wherever it lies."""
    frames = (run.gate_frames if gate_frames is None else gate_frames) + clock.samples_in_ms(env.release_ms)
    return frames if run.cut_frames is None else min(frames, run.cut_frames + clock.samples_in_ms(CUT_MS))


def run_gain(
    run: Run, env: Envelope, clock: Clock, velocity: float, *, gate_frames: int | None = None
) -> NDArray[np.float32]:
    """The gain over a run: an envelope, the note's velocity, and the fade where the next one takes the voice away.

    Args:
        velocity: how much of the note's velocity reaches its level, 0 to 1.
        gate_frames: for how long it is held, where that is not as long as its notes.
    """
    gate, release = run.gate_frames if gate_frames is None else gate_frames, clock.samples_in_ms(env.release_ms)
    frames, fade = run_frames(run, env, clock, gate_frames=gate_frames), clock.samples_in_ms(CUT_MS)
    if not clock.comes_round:  # what lies behind the end of a single pass is not heard
        frames = max(1, min(frames, clock.frames - run.start))
    curve = adsr(
        frames,
        gate,
        attack_frames=clock.samples_in_ms(env.attack_ms),
        decay_frames=clock.samples_in_ms(env.decay_ms),
        sustain=env.sustain,
        release_frames=release,
    )
    if run.cut_frames is not None and frames > run.cut_frames:
        curve[run.cut_frames :] *= (1.0 - rising(fade))[: frames - run.cut_frames]
    return curve * np.float32(1.0 - velocity * (1.0 - run.velocity / 127.0))
