"""Of a source's waves, those that push each other's phase, over one run of its voice."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, greatest
from apilado.core.dsp.cycles import Cycle, Recorded, cycle_table, slope_of
from apilado.core.dsp.modulation import (
    NEAR_SHARE,
    SINE_FACTOR,
    SMOOTH_FACTOR,
    STEEP_FACTOR,
    add_pushed,
    at_factor,
    brought_down,
    fitting_harmonics,
    noise,
)
from apilado.core.dsp.oscillators import Walk, harmonics_below
from apilado.core.notes import Run
from apilado.core.sources.voicing import in_run, shifted
from apilado.core.sources.wave import CYCLE_MOVES, Tone
from apilado.core.units import cents_to_ratio, db_to_gain

SMOOTH_SHAPES = ("sine", "triangle")
TURN = 2.0 * math.pi
Track = float | NDArray[np.float64]


class Pushed:
    """Plays them at a multiple of the rate, each behind those that push it."""

    def __init__(
        self,
        tones: tuple[Tone, ...],
        pushing: frozenset[str],
        run: Run,
        rate_hz: int,
        track: Track,
        gains: Mapping[str, NDArray[np.float32]],
        chance: tuple[int, int],
        tables: Mapping[str, Recorded],
    ) -> None:
        """
        Args:
            pushing: the ids of those that push or are pushed.
            track: frequency of the note, in Hz, over the run.
            gains: the envelope of each wave, by its id, shape (frames,).
            chance: what free phases and noise are drawn from, with the number of the wave.
            tables: those that were read from a file, by the ids of their waves.
        """
        self.tones, self.pushing, self.run, self.rate_hz = tones, pushing, run, rate_hz
        self.track, self.gains, self.chance, self.tables = track, gains, chance, tables
        self.frames = next(iter(gains.values())).shape[0]
        steep = any(
            tone.pushes() and (tone.shape not in SMOOTH_SHAPES or self._furthest(tone).warped) for tone in tones
        )
        self.factor = STEEP_FACTOR if steep else SINE_FACTOR if self._near() else SMOOTH_FACTOR
        self._signals: dict[str, NDArray[np.float32]] = {}
        """What each modulator does, at the higher rate."""
        self._widths_hz: dict[str, float] = {}
        """By how many Hz each modulator moves what it pushes at most, for an index of 1."""

    def _near(self) -> bool:
        """Whether there are sines alone, none of which pushes itself or goes far."""
        reach_hz: dict[str, float] = {}
        for tone in self.tones:
            if tone.id not in self.pushing or tone.shape == "noise":
                continue
            plain = tone.shape == "sine" and not (tone.harmonics or self._furthest(tone).warped)
            if not plain or greatest(tone.feedback) > 0.0:
                return False
            pushed = [
                greatest(each.index) * reach_hz.get(other.id, self.rate_hz)
                for other in self.tones
                for each in other.pushes()
                if each.wave == tone.id and other.id in self.pushing
            ]
            copied = float(cents_to_ratio(greatest(tone.detune_cents) if tone.copies > 1 else 0.0))
            reach_hz[tone.id] = float(np.max(self._hertz(tone))) * copied + sum(pushed)
        return bool(max(reach_hz.values(), default=0.0) < NEAR_SHARE * self.rate_hz)

    def sound(self, channels: int) -> Audio:
        """What is heard of them, shape (channels, frames)."""
        out = np.zeros((channels, self.frames * self.factor), np.float32)
        heard = False
        for number, tone in enumerate(self.tones):
            if tone.id not in self.pushing:
                continue
            generator = np.random.default_rng([self.chance[0], number, self.chance[1]])
            if tone.pushes():
                self._signals[tone.id] = self._modulator(tone, generator)
            else:
                heard = True
                self._carrier(tone, generator, out)
        return brought_down(out, self.rate_hz, self.factor) if heard else out[:, : self.frames]

    def _modulator(self, tone: Tone, generator: np.random.Generator) -> NDArray[np.float32]:
        signal = np.zeros((1, self.frames * self.factor), np.float32)
        gain = self._high(self.gains[tone.id]).astype(np.float32)
        if tone.shape == "noise":
            drawn = noise(self.frames, tone.slope_db_per_octave, self.rate_hz, generator, channels=1, spread=0.0)
            self._widths_hz[tone.id] = self.rate_hz / 4.0
            return np.asarray(self._high(drawn[0]) * gain, np.float32)
        fastest, count = self._play(tone, generator, signal, gain, copies=[(0.0, 0.0)])
        self._widths_hz[tone.id] = fastest * max(
            slope_of(cycle, count) for cycle in (self._cycle(tone), self._furthest(tone))
        )
        return np.asarray(signal[0], np.float32)

    def _carrier(self, tone: Tone, generator: np.random.Generator, out: Audio) -> None:
        level = in_run(tone.level_db, self.run, self.frames)
        louder = np.asarray(db_to_gain(np.asarray(level)) / math.sqrt(tone.copies))
        gain = self._high(self.gains[tone.id] * louder).astype(np.float32)
        self._play(tone, generator, out, gain, copies=tone.copy_places())

    def _play(
        self,
        tone: Tone,
        generator: np.random.Generator,
        out: Audio,
        gain: NDArray[np.float32],
        *,
        copies: list[tuple[float, float]],
    ) -> tuple[float, int]:
        """Adds a wave to `out`: (its greatest frequency as it is pushed, how many harmonics it is played with)."""
        hertz = self._hertz(tone)
        widest = float(np.max(hertz)) * float(cents_to_ratio(greatest(tone.detune_cents) if len(copies) > 1 else 0.0))
        pushes, moved_hz = self._pushes(tone)
        back = in_run(tone.feedback, self.run, self.frames)
        fastest = widest * (1.0 + float(np.max(back))) + moved_hz
        count = fitting_harmonics(widest, fastest, self.rate_hz, self.factor)
        if tone.pushes():
            count = min(count, max(1, harmonics_below(widest, self.rate_hz)))
        pieces = self._pieces(tone, count)
        given: dict[str, Any] = {"pushes": pushes, "feedback": self._high(back) / TURN, "gain": gain}
        high = self.rate_hz * self.factor
        detune = in_run(tone.detune_cents, self.run, self.frames)
        for share, pan in copies:
            phase = tone.start_phase_deg / 360.0 + (generator.random() if tone.phase == "free" else 0.0)
            way = shifted(hertz, share * detune, 1.0) if len(copies) > 1 else hertz
            add_pushed(out, pieces(), phase=phase, steps=self._high(way) / high, pan=pan, **given)
        return fastest, count

    def _cycle(self, tone: Tone) -> Cycle:
        """One cycle of a wave, as it is when the run begins."""
        if not _moves(tone):
            return tone.cycle(self.tables.get(tone.id))
        begins = {name: float(np.ravel(in_run(getattr(tone, name), self.run, self.frames))[0]) for name in CYCLE_MOVES}
        return tone.model_copy(update=begins).cycle(self.tables.get(tone.id))

    def _furthest(self, tone: Tone) -> Cycle:
        """One cycle of a wave, as far from its shape as it comes."""
        if not _moves(tone):
            return tone.cycle(self.tables.get(tone.id))
        furthest = {name: greatest(getattr(tone, name)) for name in CYCLE_MOVES}
        return tone.model_copy(update=furthest).cycle(self.tables.get(tone.id))

    def _pieces(self, tone: Tone, count: int) -> Callable[[], Iterable[tuple[int, int, NDArray[np.float32]]]]:
        """The tables along which a wave is played, at the higher rate."""
        ways = {
            name: self._high(way)
            for name in CYCLE_MOVES
            if name not in tone.unused()
            and not isinstance(way := in_run(getattr(tone, name), self.run, self.frames), float)
        }
        if ways:
            return Walk(self._cycle(tone), ways, self.rate_hz * self.factor, lambda first, end: count).pieces
        # A copy: kernels are compiled anew for what may not be written to.
        whole = (0, self.frames * self.factor, cycle_table(self._cycle(tone), count)[None].copy())
        return lambda: [whole]

    def _hertz(self, tone: Tone) -> Track:
        """The frequency of a wave over the run."""
        if tone.tuning == "fixed":
            return tone.fixed_hz
        cents = in_run(tone.cents, self.run, self.frames) if tone.tuning == "semitones" else 0.0
        still = tone.model_copy(update={"cents": 0.0})
        return shifted(self.track * still.ratio(), cents, 1.0)

    def _pushes(self, tone: Tone) -> tuple[NDArray[np.float32], float]:
        """(cycles by which others push a wave at each frame, or a single 0; by how many Hz that moves it at most)."""
        found, moved_hz = np.zeros(1, np.float32), 0.0
        for other in self.tones:
            for each in other.pushes():
                if each.wave == tone.id and other.id in self._signals:
                    index = in_run(each.index, self.run, self.frames)
                    found = found + (self._high(index) / TURN).astype(np.float32) * self._signals[other.id]
                    moved_hz += float(np.max(index)) * self._widths_hz[other.id]
        return np.asarray(found, np.float32), moved_hz

    def _high(self, values: Any) -> NDArray[np.float64]:
        return at_factor(values, self.frames, self.factor)


def _moves(tone: Tone) -> bool:
    """Whether anything of its cycle moves."""
    return any(isinstance(getattr(tone, name), Curve) for name in CYCLE_MOVES)
