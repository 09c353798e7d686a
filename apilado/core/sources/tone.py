"""Source: synthesised tones, played by one voice."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import field_validator, model_validator

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, greatest, least
from apilado.core.dsp.envelopes import CUT_MS, DECAY_NEPERS, adsr, rising
from apilado.core.dsp.modulation import noise
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
from apilado.core.parameters import Model, choice, integer, number, numbers, optional, parts, reference
from apilado.core.parts import Part
from apilado.core.sketch import SKETCH_POINTS, Sketch
from apilado.core.sources.base import AssetLoader, Score, Source
from apilado.core.sources.pushed import Pushed
from apilado.core.sources.voice import Envelope
from apilado.core.sources.voicing import glide_track, in_run, shifted
from apilado.core.units import beats_to_seconds, cents_to_ratio, db_to_gain, midi_to_hz

MOST_HARMONICS, MOST_TONES = 64, 6
C2_HZ = float(midi_to_hz(36.0))
MOST_PARTS_OF_A_NOTE, WHOLE_WITHIN = 4, 1e-3
"""Ratios count as whole, or as whole parts of up to so many to a note, within so much."""
SKETCHED_HARMONICS = 24
FAINT = 1e-3
"""Of the strongest harmonic: what is weaker leaves a gap."""
TICKS_PER_BEAT = 960
"""Chance tells places apart that lie as far from one another."""


class Modulation(Part):
    """A wave that comes later, whose phase this one pushes."""

    label: ClassVar[str] = "Modulation"

    wave: Annotated[str, reference(among="waves", label="Modulates")] = ""
    """Its id; nothing as long as none is chosen."""
    index: Annotated[
        Value,
        number(low=0.0, high=12.0, unit="rad", label="Index", help="By how much it pushes its phase", moves=True),
    ] = 1.0


class Tone(Part):
    """One wave: a starting shape, with the amplitude of any of its first harmonics set by hand; or noise.

    It is heard, or modulates waves that come later.
    """

    label: ClassVar[str] = "Tone"
    leading: ClassVar[tuple[str, ...]] = (
        "shape",
        "level_db",
        "octave",
        "ratio_to_note",
        "fixed_hz",
        "copies",
        "detune_cents",
        "slope_db_per_octave",
    )

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
    tuning: Annotated[
        Literal["semitones", "ratio", "fixed"],
        choice(label="Tuned in", names={"fixed": "Hz, whatever the note"}),
    ] = "semitones"
    ratio_to_note: Annotated[
        float, number(low=0.05, high=32.0, step=0.001, scale="log", unit="×", label="Ratio", help="To its note")
    ] = 1.0
    fixed_hz: Annotated[float, number(low=1.0, high=8000.0, step=0.1, scale="log", unit="Hz", label="Frequency")] = (
        100.0
    )
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

    slope_db_per_octave: Annotated[
        float, number(low=-6.0, high=0.0, step=0.1, unit="dB/oct", label="Slope", help="0 is white, −3 pink, −6 brown")
    ] = -3.0
    feedback: Annotated[
        Value, number(low=0.0, high=3.0, unit="rad", label="Feedback", help="By how much it pushes itself", moves=True)
    ] = 0.0
    into: tuple[Modulation, ...] = parts("modulation", most=MOST_TONES - 1)
    envelope: Envelope | None = optional(Envelope, label="Envelope", otherwise="as the voice")

    @field_validator("harmonics")
    @classmethod
    def _harmonics_in_range(cls, levels: tuple[float | None, ...]) -> tuple[float | None, ...]:
        for index, level in enumerate(levels):
            if level is not None and not 0.0 <= level <= 2.0:
                raise ValueError(f"harmonic {index + 1} must be from 0 to 2, not {level}")
        return levels

    def pushes(self) -> tuple[Modulation, ...]:
        """What it modulates; where that is nothing it is heard."""
        return tuple(each for each in self.into if each.wave)

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing at present."""
        idle = [] if self.copies > 1 else ["detune_cents", "spread"]
        idle += [] if self.shape == "pulse" else ["pulse_width"]
        tuned = {"semitones": ("octave", "semitones", "cents"), "ratio": ("ratio_to_note",), "fixed": ("fixed_hz",)}
        idle += [name for tuning, names in tuned.items() if tuning != self.tuning for name in names]
        if self.shape == "noise":
            pitched = ("harmonics", "tuning", *(name for names in tuned.values() for name in names))
            idle = [*idle, *pitched, "copies", "detune_cents", "phase", "start_phase_deg", "feedback"]
            return tuple(name for name in idle if name != "spread")
        if self.pushes():
            idle += ["level_db", "copies", "detune_cents", "spread"]
        return (*idle, "slope_db_per_octave")

    def in_words(self) -> str:
        said = [self.shape if self.copies == 1 else f"{self.shape} ×{self.copies}, ±{self.detune_cents:g} cents"]
        if self.shape == "noise":
            said = [f"noise, {self.slope_db_per_octave:g} dB/oct" if self.slope_db_per_octave else "white noise"]
        elif self.tuning == "ratio":
            said.append(f"{self.ratio_to_note:g}× its note")
        elif self.tuning == "fixed":
            said.append(f"at {self.fixed_hz:g} Hz")
        elif self.octave or self.semitones or self.cents:
            said.append(f"{12 * self.octave + self.semitones + self.cents / 100.0:+g} st")
        if self.level_db and not self.pushes():
            said.append(f"{self.level_db:g} dB")
        if least(self.feedback) > 0.0:
            said.append(f"feedback {least(self.feedback):g}")
        if self.envelope is not None:
            said.append(f"falling in {self.envelope.decay_ms:g} ms")
        if any(level is not None for level in self.harmonics):
            said.append("harmonics of its own")
        return ", ".join(said).replace("-", "−")

    def sketch(self) -> Sketch:
        if self.shape == "noise":
            drawn = np.random.default_rng(SKETCHED_HARMONICS).uniform(0.2, 0.8, 2 * SKETCH_POINTS)
            return Sketch("noise", drawn)
        cycle = cycle_table(self.shape, self.pulse_width, self.harmonics, SKETCHED_HARMONICS)
        at = np.linspace(0.0, len(cycle) - 1, 2 * SKETCH_POINTS) + len(cycle) * self.start_phase_deg / 360.0
        shown = np.asarray(cycle, np.float64)[np.round(at).astype(int) % len(cycle)]
        return Sketch("one cycle", 0.5 + shown / (2.0 * max(float(np.max(np.abs(shown))), 1e-9)))

    def ratio(self) -> float:
        """Frequency relative to the note; of one that is fixed, to C2."""
        if self.tuning == "ratio":
            return self.ratio_to_note
        if self.tuning == "fixed":
            return self.fixed_hz / C2_HZ
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
    """One to six waves, played by one voice: each is heard, or modulates waves that come later."""

    label: ClassVar[str] = "Tone"

    kind: Literal["tone"] = "tone"
    tones: tuple[Tone, ...] = parts("tone", least=1, most=MOST_TONES, begin=lambda: (Tone(),))
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

    @model_validator(mode="after")
    def _wired(self) -> ToneSource:
        later = {tone.id for tone in self.tones}
        for tone in self.tones:
            later.discard(tone.id)
            for each in tone.pushes():
                if each.wave not in later:
                    raise ValueError(f"tones/{tone.id}: a wave modulates waves that come later; '{each.wave}' is none")
        if all(tone.pushes() for tone in self.tones):
            raise ValueError("tones: one wave at least has to be heard; all of them modulate others")
        return self

    def places(self) -> dict[str, str]:
        return {tone.id: str(place) for place, tone in enumerate(self.tones)} if self.wired() else {}

    def wired(self) -> bool:
        """Whether any wave modulates another."""
        return any(tone.pushes() for tone in self.tones)

    def heard(self) -> tuple[Tone, ...]:
        """The waves that are heard."""
        return tuple(tone for tone in self.tones if not tone.pushes())

    def words_of(self, member: Model) -> str:
        """A wave as it says itself, with what modulates it, or what it modulates."""
        said, places = [member.in_words()], {tone.id: n for n, tone in enumerate(self.tones, 1)}
        if isinstance(member, Tone):
            by = [
                f"tone {places[tone.id]}, index {least(each.index):g}"
                for tone in self.tones
                for each in tone.pushes()
                if each.wave == member.id
            ]
            said += [f"modulated by {' and '.join(by)}"] if by else []
            said += (
                [f"into tone {', '.join(str(places[each.wave]) for each in member.pushes())}"]
                if member.pushes()
                else []
            )
        return ", ".join(said)

    def in_words(self) -> str:
        counted = [f"{tone.shape} ×{tone.copies}" if tone.copies > 1 else tone.shape for tone in self.tones]
        return " + ".join(counted)

    def sketch(self) -> Sketch:
        return self.heard()[0].sketch()

    def tail_seconds(self, score: Score, clock: Clock) -> float:
        played = voice_notes(score.notes, clock.beats)
        over = max((note.end_beats for note in played), default=0.0) - clock.beats
        return max(0.0, beats_to_seconds(over, clock.tempo_bpm) + score.voice.envelope.release_ms / 1000.0)

    def turned(self, cycles: float) -> dict[str, float] | None:
        if any(tone.phase == "free" or tone.shape == "noise" or tone.tuning == "fixed" for tone in self.tones):
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
        if any(tone.shape == "noise" for tone in self.heard()):
            said.append("'{layer}' has noise in it, which keeps no phase.")
        if any(_off_the_note(tone) for tone in self.tones if tone.shape != "noise"):
            said.append("'{layer}' plays other pitches than its neighbours: they cannot keep one phase.")
        return tuple(said)

    def waves(self) -> tuple[Tone, ...]:
        return tuple(tone for tone in self.tones if tone.shape != "noise")

    def velocity_share(self) -> float:
        return self.velocity

    def shift_st(self) -> float:
        return self.pitch_st

    def lowest_ratio(self) -> float:
        def pitched(tones: tuple[Tone, ...]) -> list[float]:
            return [tone.ratio() for tone in tones if tone.shape != "noise" and tone.tuning != "fixed"]

        ratios = pitched(self.tones)
        if not self.wired():
            return min(ratios, default=1.0)
        # Side tones lie at all sums and differences: their common measure, where there is one.
        for count in range(1, MOST_PARTS_OF_A_NOTE + 1):
            if ratios and all(abs(ratio * count - round(ratio * count)) < WHOLE_WITHIN for ratio in ratios):
                return math.gcd(*(round(ratio * count) for ratio in ratios)) / count
        return min(pitched(self.heard()) or ratios, default=1.0)

    def render(self, score: Score, clock: Clock, load: AssetLoader) -> Audio:
        stereo = any((tone.copies > 1 or tone.shape == "noise") and tone.spread > 0.0 for tone in self.heard())
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
        track = shifted(track, in_run(self.pitch_st, run, gain.shape[0]), 100.0)
        drawn_from = index if score.chance == "order" else round(run.start_beats * TICKS_PER_BEAT)
        pushing = self._pushing()
        if pushing:
            gains = {tone.id: self.gain_of(tone, run, score.voice.envelope, clock, gain) for tone in self.tones}
            pushes = Pushed(self.tones, pushing, run, clock.rate_hz, track, gains, (score.seed, drawn_from))
            part += pushes.sound(channels)
        for number_, tone in enumerate(self.tones):
            generator = np.random.default_rng([score.seed, number_, drawn_from])
            if tone.shape == "noise" and not tone.pushes():
                own = self.gain_of(tone, run, score.voice.envelope, clock, gain)
                level = in_run(tone.level_db, run, gain.shape[0])
                louder = np.asarray(db_to_gain(np.asarray(level)), np.float32)
                given: dict[str, Any] = {"channels": channels, "spread": tone.spread}
                part += noise(gain.shape[0], tone.slope_db_per_octave, clock.rate_hz, generator, **given) * own * louder
            if tone.id in pushing or tone.shape == "noise":
                continue
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
                    add = played.player(shifted(way, share * detune, 1.0), clock.rate_hz, widths)
                own = self.gain_of(tone, run, score.voice.envelope, clock, gain)
                add(part, phase=phase, ratio=ratio, pan=pan, gain=own * louder)
        return part

    def _pushing(self) -> frozenset[str]:
        """The waves that push others or themselves, or are pushed; noise has no phase that could be."""
        into = {each.wave for tone in self.tones for each in tone.pushes()}
        own = {tone.id for tone in self.tones if tone.pushes() or greatest(tone.feedback) > 0.0}
        return frozenset(into | own) - {tone.id for tone in self.heard() if tone.shape == "noise"}

    def gain_of(
        self, tone: Tone, run: Run, env: Envelope, clock: Clock, gain: NDArray[np.float32]
    ) -> NDArray[np.float32]:
        """The envelope of a wave over a run: its own, as long as the voice sounds, or the voice's."""
        if tone.envelope is None:
            return gain
        own = self._gain(run, tone.envelope, clock)[: gain.shape[0]]
        return np.pad(own, (0, gain.shape[0] - own.shape[0]))

    @staticmethod
    def _along(
        tone: Tone, track: float | NDArray[np.float64], run: Run, frames: int
    ) -> tuple[Tone, float | NDArray[np.float64], NDArray[np.float64] | None]:
        """(a tone that stands still, the track that it then plays along, its pulse width where that moves)."""
        cents, detune = in_run(tone.cents, run, frames), in_run(tone.detune_cents, run, frames)
        width = in_run(tone.pulse_width, run, frames)
        if tone.tuning != "semitones":
            cents = 0.0
        values = {"cents": cents, "detune_cents": detune, "pulse_width": width}
        still = {name: value if isinstance(value, float) else 0.0 for name, value in values.items()}
        played = tone.model_copy(update=still)
        widths = None if isinstance(width, float) or tone.shape != "pulse" else width
        way = C2_HZ if tone.tuning == "fixed" else track if isinstance(cents, float) else shifted(track, cents, 1.0)
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


def _off_the_note(tone: Tone) -> bool:
    """Whether a wave plays other pitches than octaves of its note, or whole multiples where it is tuned by a ratio."""
    if tone.tuning == "semitones":
        return abs(tone.cents) > 0.0 or tone.semitones % 12 != 0
    return tone.tuning == "fixed" or abs(tone.ratio_to_note - round(tone.ratio_to_note)) > WHOLE_WITHIN
