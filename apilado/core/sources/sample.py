"""Source: a recorded sound that is played by notes."""

from __future__ import annotations

import math
from functools import partial
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from apilado.core.assets import SHA256_PATTERN, AssetLoader
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least
from apilado.core.dsp.envelopes import rising
from apilado.core.dsp.sampling import HIGHEST_SPEED, LOWEST_SPEED, STRETCHES, held_places, read_at_places, stretched
from apilado.core.dsp.stereo import mixed_at
from apilado.core.notes import Run, voice_notes, voice_runs
from apilado.core.parameters import choice, note_pitch, number, numbers, switch, text
from apilado.core.sources.base import Mark, Marks, Score, Source, told_apart
from apilado.core.sources.filters import Standing, filter_list, standing
from apilado.core.sources.voicing import RUNS, glide_track, in_run, run_gain, shifted
from apilado.core.treatments.filter import Filter
from apilado.core.units import beats_to_seconds, db_to_gain, midi_to_hz, midi_to_name
from apilado.errors import InvalidEdit

MOST_SLICES = 128
SHORTEST_LOOP_MS, LONGEST_LOOP_MS, LATEST_LOOP_MS = 2.0, 5000.0, 60000.0
LONGEST_MS = 600000.0
EDGE_MS = 1.0
"""A piece that is cut out of a sound begins and ends within this."""
SHORTEST_MS = 5.0
"""No piece is shorter."""
PLAYED_OUT_S = 20.0
"""A note lasts at most so long where it is played to an end that is not set."""


class SampleSource(Source):
    """A sound from a file, played by the pattern: at other speeds, at its own length, in a short loop, in slices."""

    label: ClassVar[str] = "Sample"
    finds: ClassVar[tuple[str, ...]] = ("root", "slices", "notes")
    leading: ClassVar[tuple[str, ...]] = ("root", "pitching", "start_ms", "end_ms", "gain_db")

    kind: Literal["sample"] = "sample"
    asset: str = Field(pattern=SHA256_PATTERN, description="SHA-256 of the audio file")
    file_name: Annotated[str, text(label="File", longest=200)] = "sample.wav"
    root: Annotated[int, note_pitch(label="Root")] = 36
    """The note that it is where it is played at its own speed."""
    root_cents: Annotated[
        float, number(low=-100.0, high=100.0, step=0.1, unit="cents", label="Root off by", help="Higher than its root")
    ] = 0.0
    pitching: Annotated[
        Literal["speed", "length", "none"],
        choice(
            label="Pitched",
            names={"speed": "by its speed", "length": "keeping its length", "none": "not at all"},
            help="By its speed a higher note is shorter",
        ),
    ] = "speed"
    start_ms: Annotated[float, number(low=0.0, high=LONGEST_MS, step=1.0, unit="ms", over="file", label="Start")] = 0.0
    end_ms: Annotated[
        float,
        number(low=0.0, high=LONGEST_MS, step=1.0, unit="ms", over="file", label="End", help="0: the end of the file"),
    ] = 0.0
    gain_db: Annotated[float, number(low=-60.0, high=24.0, step=0.1, unit="dB", label="Gain", moves=True)] = 0.0
    fade_in_ms: Annotated[float, number(low=0.0, high=5000.0, step=1.0, unit="ms", over="file", label="Fade in")] = 0.0
    fade_out_ms: Annotated[float, number(low=0.0, high=5000.0, step=1.0, unit="ms", over="file", label="Fade out")] = (
        0.0
    )
    backwards: Annotated[bool, switch(label="Reversed")] = False
    fits_beats: Annotated[
        float,
        number(
            low=0.0,
            high=256.0,
            step=0.25,
            unit="beats",
            over="piece",
            label="Fits",
            help="Stretched to so many beats at the tempo of the stack; 0: as long as it is",
        ),
    ] = 0.0
    plays_out: Annotated[
        bool, switch(label="Plays out", help="A note plays it to its end, or until the next note, however short it is")
    ] = False
    held: Annotated[bool, switch(label="Held", help="It goes round in a short loop as long as the note lasts")] = False
    hold_at_ms: Annotated[
        Value, number(low=0.0, high=LATEST_LOOP_MS, step=1.0, unit="ms", over="file", label="Held from", moves=True)
    ] = 100.0
    hold_ms: Annotated[
        float,
        number(
            low=SHORTEST_LOOP_MS,
            high=LONGEST_LOOP_MS,
            step=0.1,
            scale="log",
            unit="ms",
            label="Loop",
            help="Of what is held",
        ),
    ] = 60.0
    hold_fade: Annotated[
        float, number(low=0.0, high=1.0, label="Crossfade", help="How much of the loop goes over into its beginning")
    ] = 0.25
    sliced: Annotated[
        bool, switch(label="In slices", help="The root plays the first slice, the next note up the second, and so on")
    ] = False
    slices_ms: Annotated[
        tuple[float, ...],
        numbers(
            low=0.0,
            high=LONGEST_MS,
            most=MOST_SLICES,
            step=0.1,
            label="Slices",
            help="Where each begins in the file, in ms",
        ),
    ] = ()
    pitch_st: Annotated[float, number(low=-48.0, high=48.0, step=0.01, unit="st", label="Pitch", moves=True)] = 0.0
    velocity: Annotated[
        float, number(low=0.0, high=1.0, label="Velocity", help="How much of a note's velocity reaches its level")
    ] = 0.5
    filters: tuple[Filter, ...] = filter_list()
    filters_stand: Annotated[Standing, standing()] = "in a row"

    @field_validator("slices_ms")
    @classmethod
    def _ascending(cls, slices: tuple[float, ...]) -> tuple[float, ...]:
        for index, at in enumerate(slices):
            if not 0.0 <= at <= LONGEST_MS:
                raise ValueError(f"slice {index + 1} must begin from 0 to {LONGEST_MS:g} ms, not at {at}")
        return tuple(sorted(set(slices)))

    @classmethod
    def beginning(cls, stack: Any, layer: Any) -> dict[str, Any]:
        asset = getattr(layer.source, "asset", "")
        if not asset:
            raise InvalidEdit("a sample needs its audio: press 'Use an audio file' and choose one")
        return {"asset": asset, "file_name": layer.source.file_name}

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing at present."""
        idle = [] if self.held else ["hold_at_ms", "hold_ms", "hold_fade"]
        idle += ["pitching", "root_cents"] if self.sliced else ["slices_ms"]
        idle += ["root_cents"] if self.pitching == "none" else []
        return (*idle, *(() if len(self.filters) > 1 else ("filters_stand",)))

    def in_words(self) -> str:
        said = [self.file_name, f"root {midi_to_name(self.root)}"]
        said += [f"{len(self.slices_ms)} slices"] if self.sliced else []
        said += [f"held in {self.hold_ms:g} ms"] if self.held else []
        said += [f"in {self.fits_beats:g} beats"] if self.fits_beats else []
        return ", ".join([*said, *(["reversed"] if self.backwards else [])])

    def drifts(self) -> tuple[str, ...]:
        said = ["'{layer}' is a recording: the phase that its notes begin with is as it was recorded."]
        if self.held:
            said.append("What is held of '{layer}' has the pitch of its loop: it beats with its neighbours.")
        if self.fits_beats or self.pitching == "length":
            said.append("'{layer}' is stretched: its phase goes its own ways.")
        return tuple(said)

    def marks(self) -> Marks:
        places = {"start": Mark("start_ms", self.start_ms), "end": Mark("end_ms", self.end_ms)}
        held = None
        if self.held:
            at = self.start_ms + least(self.hold_at_ms)
            places["hold"] = Mark("hold_at_ms", at, self.start_ms)
            held = (at, at + self.hold_ms)
        return Marks(self.asset, self.file_name, places, held, self.slices_ms if self.sliced else ())

    def asset_hashes(self) -> tuple[str, ...]:
        return (self.asset,)

    def pitched(self) -> bool:
        return not self.sliced and self.pitching != "none"

    def velocity_share(self) -> float:
        return self.velocity

    def shift_st(self) -> float:
        return self.pitch_st

    def side(self, *, through: bool) -> SampleSource | None:
        return self.model_copy(update={"filters": (), "filters_stand": "in a row"}) if through else None

    def tail_seconds(self, score: Score, clock: Clock) -> float:
        played = voice_notes(score.notes, clock.beats)
        over = max((note.end_beats for note in played), default=0.0) - clock.beats
        rings = self._longest_s() if self.plays_out else score.voice.envelope.release_ms / 1000.0
        return max(0.0, beats_to_seconds(over, clock.tempo_bpm)) + rings

    def _longest_s(self) -> float:
        """How long a note that is played out may last."""
        if self.held or self.end_ms <= 0.0 or self.fits_beats > 0.0:
            return PLAYED_OUT_S
        return min(PLAYED_OUT_S, max(self.end_ms - self.start_ms, SHORTEST_MS) / 1000.0 / LOWEST_SPEED)

    def render(self, score: Score, clock: Clock, load: AssetLoader) -> Audio:
        audio = load(self.asset, clock.rate_hz)
        pieces = self.pieces(audio, clock)
        out, kept = np.zeros((audio.shape[0], clock.frames), np.float32), told_apart(self, score, clock)
        runs = voice_runs(score.notes, clock, score.voice.mode)
        lengths = runs.gates + clock.samples_in_ms(score.voice.envelope.release_ms)
        if self.plays_out:
            out_frames = round(self._longest_s() * clock.rate_hz)
            lengths = np.array([run.cut_frames or out_frames for run in runs], np.int64)
        for _, run, places in runs.heard(clock, lengths):
            play = partial(self._run, run, score, clock, pieces)
            left = None if clock.comes_round else clock.frames - run.start
            own = (run.gate_frames, run.cut_frames, run.pitches, run.velocity, left)
            part = play() if kept is None else RUNS.get((kept, own), play)
            for place in places:
                mixed_at(out, part, place, looped=clock.looped)
        return out

    def pieces(self, audio: Audio, clock: Clock) -> list[Audio]:
        """What its notes play: the stretch from its start to its end, or each of its slices; reversed, faded."""
        total = audio.shape[1]
        first = min(clock.samples_in_ms(self.start_ms), total)
        last = min(clock.samples_in_ms(self.end_ms), total) if self.end_ms > 0.0 else total
        last = max(last, min(total, first + clock.samples_in_ms(SHORTEST_MS)))
        cuts = [(first, last)]
        if self.sliced and self.slices_ms:
            starts = [at for at in (clock.samples_in_ms(ms) for ms in self.slices_ms) if first <= at < last] or [first]
            cuts = list(zip(starts, [*starts[1:], last], strict=True))
        return [self._piece(audio[:, begin:end], clock) for begin, end in cuts]

    def _piece(self, audio: Audio, clock: Clock) -> Audio:
        part = np.array(audio[:, ::-1] if self.backwards else audio, np.float32)
        for wanted, side in ((self.fade_in_ms, 0), (self.fade_out_ms, 1)):
            # What begins or ends in the midst of a sound would click.
            frames = min(clock.samples_in_ms(max(wanted, EDGE_MS)), part.shape[1] // 2)
            if frames and side:
                part[:, -frames:] *= rising(frames)[::-1].astype(np.float32)
            elif frames:
                part[:, :frames] *= rising(frames).astype(np.float32)
        return part

    def _run(self, run: Run, score: Score, clock: Clock, pieces: list[Audio]) -> Audio:
        env, pitch = score.voice.envelope, run.pitches[0][1] + score.transpose
        number_ = (pitch - self.root) % len(pieces) if self.sliced else 0
        own_hz = float(midi_to_hz(self.root + self.root_cents / 100.0))
        begins = 1.0 if self.sliced or self.pitching == "none" else float(midi_to_hz(float(pitch))) / own_hz
        begins = min(max(begins, LOWEST_SPEED), HIGHEST_SPEED)
        piece = self._stretched(pieces, number_, begins, clock)
        gate = run.gate_frames
        if self.plays_out:
            longest = round(self._longest_s() * clock.rate_hz)
            gate = longest if self.held else min(longest, math.ceil(piece.shape[1] / begins))
        gain = run_gain(run, env, clock, self.velocity, gate_frames=gate)
        speeds: float | NDArray[np.float64] = begins
        if not self.sliced and self.pitching != "none":
            speeds = glide_track(run, score.transpose, score.voice.glide_ms, clock, gain.shape[0]) / own_hz
        speeds = shifted(speeds, in_run(self.pitch_st, run, gain.shape[0]), 100.0)
        along = np.broadcast_to(np.asarray(speeds, np.float64), gain.shape)
        places = np.cumsum(along) - along[:1]
        louder = np.asarray(db_to_gain(np.asarray(in_run(self.gain_db, run, gain.shape[0]))), np.float32)
        return self._read(piece, places, speeds, run, clock) * gain * louder

    def _stretched(self, pieces: list[Audio], number_: int, speed: float, clock: Clock) -> Audio:
        """A piece at the length from which it is read at a speed."""
        piece, keeps = pieces[number_], self.pitching == "length" and not self.sliced
        length = float(piece.shape[1])
        if self.fits_beats > 0.0:
            length = beats_to_seconds(self.fits_beats, clock.tempo_bpm) * clock.rate_hz
        frames = max(1, round(length * (speed if keeps or self.fits_beats > 0.0 else 1.0)))
        if frames == piece.shape[1]:
            return piece
        cut = (
            self.start_ms,
            self.end_ms,
            self.backwards,
            self.fade_in_ms,
            self.fade_out_ms,
            self.sliced,
            self.slices_ms,
        )
        key = (self.asset, cut, number_, frames, clock.rate_hz)
        return STRETCHES.get(key, lambda: stretched(piece, frames, clock.rate_hz))

    def _read(
        self,
        piece: Audio,
        places: NDArray[np.float64],
        speeds: float | NDArray[np.float64],
        run: Run,
        clock: Clock,
    ) -> Audio:
        if not self.held:
            return read_at_places(piece, places, speeds)
        at = in_run(self.hold_at_ms, run, places.shape[0])
        length = max(2.0, min(self.hold_ms * clock.rate_hz / 1000.0, piece.shape[1] - 1.0))
        latest = max(0.0, piece.shape[1] - 1.0 - length)
        begins = np.minimum(np.asarray(at) * clock.rate_hz / 1000.0, latest)
        here, faded, share = held_places(
            places, begins if begins.ndim else float(begins), length, self.hold_fade * length
        )
        found = read_at_places(piece, here, speeds)
        fading = share > 0.0
        if np.any(fading):
            other = np.zeros_like(found)
            speeds_there = speeds[fading] if isinstance(speeds, np.ndarray) else speeds
            other[:, fading] = read_at_places(piece, faded[fading], speeds_there)
            found += (other - found) * share.astype(np.float32)
        return found
