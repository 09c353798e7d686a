"""One wave of a tone: its shape, its tuning, its copies, what it modulates."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from apilado.core.assets import SHA256_PATTERN
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least
from apilado.core.dsp.cycles import MOST_CYCLES, Cycle, Recorded, Shape, cycle_table
from apilado.core.dsp.oscillators import Copies, MovingPulse, MovingTone, WalkingTone, add_tone, harmonics_below
from apilado.core.parameters import Model, choice, integer, number, numbers, optional, parts, reference, switch, text
from apilado.core.parts import Part
from apilado.core.sketch import SKETCH_POINTS, Sketch
from apilado.core.sources.voice import Envelope
from apilado.core.units import cents_to_ratio, midi_to_hz

MOST_HARMONICS, MOST_TONES = 64, 6
SHORTEST_CYCLE, LONGEST_CYCLE = 16, 16384
CYCLE_MOVES = ("pulse_width", "position", "sync", "bend")
"""What may move of a cycle."""
C2_HZ = float(midi_to_hz(36.0))
WHOLE_WITHIN = 1e-3
"""Ratios count as whole within so much."""
SKETCHED_HARMONICS = 24
FAINT = 1e-3
"""Of the strongest harmonic: what is weaker leaves a gap."""


class Modulation(Part):
    """A wave that comes later, whose phase this one pushes."""

    label: ClassVar[str] = "Modulation"

    wave: Annotated[str, reference(among="waves", label="Modulates")] = ""
    """Its id; nothing as long as none is chosen."""
    index: Annotated[
        Value,
        number(low=0.0, high=12.0, unit="rad", label="Index", help="By how much it pushes its phase", moves=True),
    ] = 1.0


class DrawnCycle(Part):
    """One cycle of a table, as the amplitudes of its harmonics."""

    label: ClassVar[str] = "Cycle"

    harmonics: Annotated[
        tuple[float, ...],
        numbers(
            low=0.0,
            high=2.0,
            most=MOST_HARMONICS,
            step=0.0001,
            label="Harmonics",
            help=f"Amplitudes of harmonics 1, 2, 3 … up to {MOST_HARMONICS}",
        ),
    ] = (1.0,)

    @field_validator("harmonics")
    @classmethod
    def _in_range(cls, levels: tuple[float, ...]) -> tuple[float, ...]:
        _check_levels(levels)
        return levels

    def in_words(self) -> str:
        heard = sum(level > 0.0 for level in self.harmonics)
        return f"{heard} harmonic{'' if heard == 1 else 's'}"

    def sketch(self) -> Sketch:
        return cycle_sketch(Cycle("table", drawn=(self.harmonics,)), 0.0)


class RecordedTable(Model):
    """A table in an audio file whose cycles lie end to end."""

    asset: str = Field(pattern=SHA256_PATTERN, description="SHA-256 of the audio file")
    file_name: Annotated[str, text(label="File", longest=200)] = "table.wav"
    cycle_frames: Annotated[
        int, integer(low=SHORTEST_CYCLE, high=LONGEST_CYCLE, unit="frames", label="Cycle", help="Frames of each")
    ] = 2048


class Tone(Part):
    """One wave: a starting shape, with the amplitude of any of its first harmonics set by hand; or noise.

    It is heard, or modulates waves that come later.
    """

    label: ClassVar[str] = "Tone"
    leading: ClassVar[tuple[str, ...]] = (
        "shape",
        "position",
        "level_db",
        "octave",
        "ratio_to_note",
        "fixed_hz",
        "copies",
        "detune_cents",
        "slope_db_per_octave",
    )

    on: Annotated[bool, switch(label="On")] = True
    shape: Annotated[Shape, choice(label="Shape")] = "saw"
    table: tuple[DrawnCycle, ...] = parts("cycle", most=MOST_CYCLES, ordered=True)
    recorded: RecordedTable | None = Field(default=None, description="A table from a file; null plays the drawn cycles")
    position: Annotated[
        Value,
        number(low=0.0, high=1.0, label="Position", help="0: first cycle of its table, 1: last", moves=True),
    ] = 0.0
    sync: Annotated[
        Value,
        number(
            low=1.0,
            high=16.0,
            scale="log",
            unit="×",
            label="Sync",
            help="A cycle so many times as fast, begun anew with each cycle of the wave; 1 is off",
            moves=True,
        ),
    ] = 1.0
    bend: Annotated[
        Value,
        number(
            low=0.0,
            high=1.0,
            label="Phase distortion",
            help="The half of a cycle comes earlier, 0 not at all, 1 at once",
            moves=True,
        ),
    ] = 0.0
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
    filtered: Annotated[
        bool, switch(label="Through the filters", help="Off: it goes past the filters of its source")
    ] = True

    @field_validator("harmonics")
    @classmethod
    def _harmonics_in_range(cls, levels: tuple[float | None, ...]) -> tuple[float | None, ...]:
        _check_levels(levels)
        return levels

    def heard(self) -> bool:
        """Whether it goes out."""
        return self.on and not self.pushes()

    def cycle(self, recorded: Recorded | None = None) -> Cycle:
        """What one cycle of it is, where its values stand."""
        return Cycle(
            self.shape,
            self.pulse_width,
            self.harmonics,
            tuple(each.harmonics for each in self.table),
            recorded,
            **{name: least(getattr(self, name)) for name in ("position", "sync", "bend")},
        )

    def pushes(self) -> tuple[Modulation, ...]:
        """What it modulates; where that is nothing it is heard."""
        return tuple(each for each in self.into if each.wave)

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing at present."""
        idle = [] if self.copies > 1 else ["detune_cents", "spread"]
        idle += [] if self.shape == "pulse" else ["pulse_width"]
        idle += [] if self.shape == "table" else ["table", "position"]
        idle += ["table"] if self.recorded else []
        tuned = {"semitones": ("octave", "semitones", "cents"), "ratio": ("ratio_to_note",), "fixed": ("fixed_hz",)}
        idle += [name for tuning, names in tuned.items() if tuning != self.tuning for name in names]
        if self.shape == "noise":
            pitched = ("harmonics", "sync", "bend", "tuning", *(name for names in tuned.values() for name in names))
            idle = [*idle, *pitched, "copies", "detune_cents", "phase", "start_phase_deg", "feedback"]
            return tuple(name for name in idle if name != "spread")
        if self.pushes():
            idle += ["filtered", "level_db", "copies", "detune_cents", "spread"]
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
        if least(self.sync) > 1.0:
            said.append(f"sync {least(self.sync):g}×")
        if least(self.bend) > 0.0:
            said.append(f"phase distortion {least(self.bend):g}")
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
        return cycle_sketch(self.cycle(), self.start_phase_deg / 360.0)

    def ratio(self) -> float:
        """Frequency relative to the note; of one that is fixed, to C2."""
        if self.tuning == "ratio":
            return self.ratio_to_note
        if self.tuning == "fixed":
            return self.fixed_hz / C2_HZ
        return float(2.0**self.octave * cents_to_ratio(100.0 * self.semitones + self.cents))

    def apart(self) -> float:
        """How far apart its first harmonics lie at most, in fundamentals: 2 where every other one is missing."""
        sizes = np.abs(self.cycle().harmonics(16))
        heard = np.flatnonzero(sizes > FAINT * np.max(sizes, initial=0.0)) + 1
        return float(np.max(np.diff(heard, prepend=0), initial=1.0))

    def player(
        self,
        track_hz: float | NDArray[np.float64],
        rate_hz: int,
        ways: dict[str, NDArray[np.float64]],
        recorded: Recorded | None,
    ) -> Callable[..., None]:
        """What adds copies of it to a part, along the frequency of its note: `add(out, copies, gain=…)`.

        Args:
            ways: by name, what moves of its cycle, at each frame.
            recorded: its table, if that was read from a file.
        """
        cycle, highest_ratio = (
            self.cycle(recorded),
            float(cents_to_ratio(self.detune_cents if self.copies > 1 else 0.0)),
        )
        if list(ways) == ["pulse_width"] and not cycle.warped:
            widths = ways["pulse_width"]
            way = np.broadcast_to(np.asarray(track_hz * self.ratio()), widths.shape)
            return MovingPulse(widths, self.harmonics, way, rate_hz).add
        if ways:
            return WalkingTone(cycle, ways, track_hz * self.ratio(), rate_hz, highest_ratio).add
        if not isinstance(track_hz, float):
            return MovingTone(cycle, track_hz * self.ratio(), rate_hz).add
        note_hz = track_hz * self.ratio()
        count = harmonics_below(note_hz * highest_ratio, rate_hz)
        table = cycle_table(cycle, count) if count else None

        def add(out: Audio, copies: Copies, *, gain: NDArray[np.float32]) -> None:
            if table is not None:
                add_tone(out, table, copies, frequency_hz=note_hz, rate_hz=rate_hz, gain=gain)

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


def cycle_sketch(cycle: Cycle, phase: float) -> Sketch:
    """One cycle from a phase on, in a drawing the size of a word."""
    points = cycle_table(cycle, SKETCHED_HARMONICS)
    at = np.linspace(0.0, len(points) - 1, 2 * SKETCH_POINTS) + len(points) * phase
    shown = np.asarray(points, np.float64)[np.round(at).astype(int) % len(points)]
    return Sketch("one cycle", 0.5 + shown / (2.0 * max(float(np.max(np.abs(shown))), 1e-9)))


def _check_levels(levels: Sequence[float | None]) -> None:
    for index, level in enumerate(levels):
        if level is not None and not 0.0 <= level <= 2.0:
            raise ValueError(f"harmonic {index + 1} must be from 0 to 2, not {level}")


def off_the_note(tone: Tone) -> bool:
    """Whether a wave plays other pitches than octaves of its note, or whole multiples where it is tuned by a ratio."""
    if tone.tuning == "semitones":
        return abs(tone.cents) > 0.0 or tone.semitones % 12 != 0
    return tone.tuning == "fixed" or abs(tone.ratio_to_note - round(tone.ratio_to_note)) > WHOLE_WITHIN
