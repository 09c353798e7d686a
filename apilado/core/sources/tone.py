"""Source: synthesised tones, played by one voice."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import field_validator

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value
from apilado.core.dsp.envelopes import CUT_MS, DECAY_NEPERS, adsr, rising
from apilado.core.dsp.oscillators import (
    MovingPulse,
    MovingTone,
    Shape,
    add_tone,
    cycle_table,
    harmonics_below,
    shape_harmonics,
    with_overrides,
)
from apilado.core.dsp.stereo import mixed_at
from apilado.core.notes import Run, voice_notes, voice_runs
from apilado.core.parameters import choice, integer, number, numbers, parts
from apilado.core.parts import Part
from apilado.core.sketch import SKETCH_POINTS, Sketch
from apilado.core.sources.base import AssetLoader, Score, Source
from apilado.core.sources.voice import Envelope
from apilado.core.units import beats_to_seconds, cents_to_ratio, db_to_gain, midi_to_hz

MOST_HARMONICS = 64
SKETCHED_HARMONICS = 24
FAINT = 1e-3
"""Of the strongest harmonic: what is weaker leaves a gap."""
TICKS_PER_BEAT = 960
"""Chance tells places apart that lie as far from one another."""


class Tone(Part):
    """One wave: a starting shape, with the amplitude of any of its first harmonics set by hand."""

    label: ClassVar[str] = "Tone"
    leading: ClassVar[tuple[str, ...]] = ("shape", "level_db", "octave", "copies", "detune_cents")

    shape: Annotated[Shape, choice(label="Shape")] = "saw"
    pulse_width: Annotated[float, number(low=0.02, high=0.98, label="Pulse width", moves=True)] = 0.25
    harmonics: Annotated[
        tuple[float | None, ...],
        numbers(
            low=0.0,
            high=2.0,
            most=MOST_HARMONICS,
            step=0.0001,
            blanks=True,
            label="Harmonics",
            help=f"Amplitudes of harmonics 1, 2, 3 … up to {MOST_HARMONICS}; a blank keeps the shape's own",
        ),
    ] = ()
    level_db: Annotated[float, number(low=-60.0, high=12.0, step=0.1, unit="dB", label="Level", moves=True)] = 0.0
    octave: Annotated[int, integer(low=-4, high=4, label="Octave")] = 0
    semitones: Annotated[int, integer(low=-24, high=24, label="Semitones")] = 0
    cents: Annotated[float, number(low=-100.0, high=100.0, step=0.1, unit="cents", label="Fine", moves=True)] = 0.0
    copies: Annotated[int, integer(low=1, high=16, label="Copies")] = 1
    detune_cents: Annotated[
        float,
        number(
            low=0.0,
            high=100.0,
            step=0.1,
            unit="cents",
            label="Detune",
            help="Outermost copies, up and down",
            moves=True,
        ),
    ] = 12.0
    spread: Annotated[float, number(low=0.0, high=1.0, label="Spread", help="How far apart the copies stand")] = 0.0
    phase: Annotated[Literal["fixed", "free"], choice(label="Phase")] = "fixed"
    start_phase_deg: Annotated[float, number(low=0.0, high=360.0, step=1.0, unit="°", label="Start phase")] = 0.0

    @field_validator("harmonics")
    @classmethod
    def _harmonics_in_range(cls, levels: tuple[float | None, ...]) -> tuple[float | None, ...]:
        for index, level in enumerate(levels):
            if level is not None and not 0.0 <= level <= 2.0:
                raise ValueError(f"harmonic {index + 1} must be from 0 to 2, not {level}")
        return levels

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing at present."""
        idle = [] if self.copies > 1 else ["detune_cents", "spread"]
        return (*idle, *([] if self.shape == "pulse" else ["pulse_width"]))

    def in_words(self) -> str:
        said = [self.shape if self.copies == 1 else f"{self.shape} ×{self.copies}, ±{self.detune_cents:g} cents"]
        if self.octave or self.semitones or self.cents:
            said.append(f"{12 * self.octave + self.semitones + self.cents / 100.0:+g} st")
        if self.level_db:
            said.append(f"{self.level_db:g} dB")
        if any(level is not None for level in self.harmonics):
            said.append("harmonics of its own")
        return ", ".join(said).replace("-", "−")

    def sketch(self) -> Sketch:
        cycle = cycle_table(self.shape, self.pulse_width, self.harmonics, SKETCHED_HARMONICS)
        at = np.linspace(0.0, len(cycle) - 1, 2 * SKETCH_POINTS) + len(cycle) * self.start_phase_deg / 360.0
        shown = np.asarray(cycle, np.float64)[np.round(at).astype(int) % len(cycle)]
        return Sketch("one cycle", 0.5 + shown / (2.0 * max(float(np.max(np.abs(shown))), 1e-9)))

    def ratio(self) -> float:
        """Frequency relative to the note."""
        return float(2.0**self.octave * cents_to_ratio(100.0 * self.semitones + self.cents))

    def apart(self) -> float:
        """How far apart its first harmonics lie at most, in fundamentals: 2 where every other one is missing."""
        sizes = np.abs(with_overrides(shape_harmonics(self.shape, 16, pulse_width=self.pulse_width), self.harmonics))
        heard = np.flatnonzero(sizes > FAINT * np.max(sizes, initial=0.0)) + 1
        return float(np.max(np.diff(heard, prepend=0), initial=1.0))

    def player(
        self, track_hz: float | NDArray[np.float64], rate_hz: int, widths: NDArray[np.float64] | None = None
    ) -> Callable[..., None]:
        """What adds one copy of it to a part, along the frequency of its note: `add(out, phase, ratio, pan, gain)`.

        Args:
            widths: its pulse width at each frame, where that moves.
        """
        if widths is not None:
            way = np.broadcast_to(np.asarray(track_hz * self.ratio()), widths.shape)
            return MovingPulse(widths, self.harmonics, way, rate_hz).add
        if not isinstance(track_hz, float):
            return MovingTone(self.shape, self.pulse_width, self.harmonics, track_hz * self.ratio(), rate_hz).add
        note_hz = track_hz * self.ratio()
        highest_hz = note_hz * float(cents_to_ratio(self.detune_cents if self.copies > 1 else 0.0))
        count = harmonics_below(highest_hz, rate_hz)
        table = cycle_table(self.shape, self.pulse_width, self.harmonics, count) if count else None

        def add(out: Audio, *, phase: float, ratio: float, pan: float, gain: NDArray[np.float32]) -> None:
            if table is not None:
                add_tone(out, table, phase=phase, frequency_hz=note_hz * ratio, rate_hz=rate_hz, pan=pan, gain=gain)

        return add

    def copy_places(self) -> list[tuple[float, float]]:
        """(share of the detuning, pan) of each copy: even in pitch, mirrored in the image, neighbours opposite."""
        if self.copies == 1:
            return [(0.0, 0.0)]
        places = []
        for index in range(self.copies):
            x = 2.0 * index / (self.copies - 1) - 1.0
            pair = min(index, self.copies - 1 - index)
            side = 1.0 if pair % 2 == 0 else -1.0
            places.append((x, x * side * self.spread))
        return places


class ToneSource(Source):
    """One to four tones, played by one voice."""

    label: ClassVar[str] = "Tone"

    kind: Literal["tone"] = "tone"
    tones: tuple[Tone, ...] = parts("tone", least=1, most=4, begin=lambda: (Tone(),))
    pitch_st: Annotated[float, number(low=-48.0, high=48.0, step=0.01, unit="st", label="Pitch", moves=True)] = 0.0
    drop_semitones: Annotated[
        float, number(low=0.0, high=48.0, step=0.5, unit="st", label="Pitch drop", help="How much higher a note begins")
    ] = 0.0
    drop_ms: Annotated[
        float,
        number(low=1.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Drop time", help="All but 1/1000 of it"),
    ] = 140.0
    velocity: Annotated[
        float, number(low=0.0, high=1.0, label="Velocity", help="How much of a note's velocity reaches its level")
    ] = 0.5

    def in_words(self) -> str:
        counted = [f"{tone.shape} ×{tone.copies}" if tone.copies > 1 else tone.shape for tone in self.tones]
        return " + ".join(counted)

    def sketch(self) -> Sketch:
        return self.tones[0].sketch()

    def tail_seconds(self, score: Score, clock: Clock) -> float:
        played = voice_notes(score.notes, clock.beats)
        over = max((note.end_beats for note in played), default=0.0) - clock.beats
        return max(0.0, beats_to_seconds(over, clock.tempo_bpm) + score.voice.envelope.release_ms / 1000.0)

    def turned(self, cycles: float) -> dict[str, float] | None:
        if any(tone.phase == "free" for tone in self.tones):
            return None
        # Each of its tones by as many cycles of its own.
        degrees = {tone.id: (tone.start_phase_deg + 360.0 * cycles * tone.ratio()) % 360.0 for tone in self.tones}
        return {f"tones/{name}/start_phase_deg": round(angle, 1) % 360.0 for name, angle in degrees.items()}

    def drifts(self) -> tuple[str, ...]:
        said = []
        if any(tone.copies > 1 and tone.detune_cents > 0.0 for tone in self.tones):
            said.append("The detuned copies of '{layer}' drift against its neighbours: fewer copies, or none below.")
        if any(tone.phase == "free" for tone in self.tones):
            said.append("'{layer}' begins every note with another phase: fix its start phase.")
        if any(abs(tone.cents) > 0.0 or tone.semitones % 12 for tone in self.tones):
            said.append("'{layer}' plays other pitches than its neighbours: they cannot keep one phase.")
        return tuple(said)

    def waves(self) -> tuple[Tone, ...]:
        return self.tones

    def velocity_share(self) -> float:
        return self.velocity

    def shift_st(self) -> float:
        return self.pitch_st

    def lowest_ratio(self) -> float:
        return min(tone.ratio() for tone in self.tones)

    def render(self, score: Score, clock: Clock, load: AssetLoader) -> Audio:
        stereo = any(tone.copies > 1 and tone.spread > 0.0 for tone in self.tones)
        out = np.zeros((2 if stereo else 1, clock.frames), np.float32)
        for index, run in enumerate(voice_runs(score.notes, clock, score.voice.mode)):
            longest = run.gate_frames + clock.samples_in_ms(score.voice.envelope.release_ms)
            places = clock.places(run.start, longest)
            part = self._run(run, index, score, clock, out.shape[0]) if places else out[:, :0]
            for place in places:
                mixed_at(out, part, place, looped=clock.looped)
        return out

    def _run(self, run: Run, index: int, score: Score, clock: Clock, channels: int) -> Audio:
        gain = self._gain(run, score.voice.envelope, clock)
        part = np.zeros((channels, gain.shape[0]), np.float32)
        track = glide_track(run, score.transpose, score.voice.glide_ms, clock, gain.shape[0])
        if self.drop_semitones > 0.0:
            fall = np.exp(-DECAY_NEPERS * np.arange(gain.shape[0]) / clock.samples_in_ms(self.drop_ms))
            track = track * cents_to_ratio(100.0 * self.drop_semitones * fall)
        track = _shifted(track, in_run(self.pitch_st, run, gain.shape[0]), 100.0)
        for number_, tone in enumerate(self.tones):
            drawn_from = index if score.chance == "order" else round(run.start_beats * TICKS_PER_BEAT)
            generator = np.random.default_rng([score.seed, number_, drawn_from])
            level, detune = (in_run(value, run, gain.shape[0]) for value in (tone.level_db, tone.detune_cents))
            louder = np.asarray(db_to_gain(np.asarray(level)) / math.sqrt(tone.copies), np.float32)
            played, way, widths = self._along(tone, track, run, gain.shape[0])
            add = played.player(way, clock.rate_hz, widths)
            for share, pan in tone.copy_places():
                phase = tone.start_phase_deg / 360.0
                if tone.phase == "free":
                    phase += generator.random()
                ratio = 1.0
                if isinstance(detune, float):
                    ratio = float(cents_to_ratio(share * detune))
                else:  # every copy goes a way of its own
                    add = played.player(_shifted(way, share * detune, 1.0), clock.rate_hz, widths)
                add(part, phase=phase, ratio=ratio, pan=pan, gain=gain * louder)
        return part

    @staticmethod
    def _along(
        tone: Tone, track: float | NDArray[np.float64], run: Run, frames: int
    ) -> tuple[Tone, float | NDArray[np.float64], NDArray[np.float64] | None]:
        """(a tone that stands still, the track that it then plays along, its pulse width where that moves)."""
        cents, detune = in_run(tone.cents, run, frames), in_run(tone.detune_cents, run, frames)
        width = in_run(tone.pulse_width, run, frames)
        values = {"cents": cents, "detune_cents": detune, "pulse_width": width}
        still = {name: value if isinstance(value, float) else 0.0 for name, value in values.items()}
        played = tone.model_copy(update=still)
        widths = None if isinstance(width, float) or tone.shape != "pulse" else width
        way = track if isinstance(cents, float) else _shifted(track, cents, 1.0)
        return played, way, widths

    def _gain(self, run: Run, env: Envelope, clock: Clock) -> NDArray[np.float32]:
        release = clock.samples_in_ms(env.release_ms)
        frames = run.gate_frames + release
        fade = clock.samples_in_ms(CUT_MS)
        if run.cut_frames is not None:
            frames = min(frames, run.cut_frames + fade)
        curve = adsr(
            frames,
            run.gate_frames,
            attack_frames=clock.samples_in_ms(env.attack_ms),
            decay_frames=clock.samples_in_ms(env.decay_ms),
            sustain=env.sustain,
            release_frames=release,
        )
        if run.cut_frames is not None and frames > run.cut_frames:
            curve[run.cut_frames :] *= (1.0 - rising(fade))[: frames - run.cut_frames]
        return curve * np.float32(1.0 - self.velocity * (1.0 - run.velocity / 127.0))


def in_run(value: Value, run: Run, frames: int) -> float | NDArray[np.float64]:
    """A value from the start of a run on, round the end of a loop: a number, or one per frame."""
    if not isinstance(value, Curve):
        return value
    found = np.interp((run.start + np.arange(frames)) % value.frames, value.at, value.values)
    # What stands still over a run is played as what stands still.
    return float(found[0]) if found.size and np.ptp(found) == 0.0 else found


def _shifted(
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
