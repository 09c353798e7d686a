"""Source: synthesised tones, played by one voice."""

from __future__ import annotations

import math
from collections.abc import Hashable
from functools import partial
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, model_validator

from apilado.core.assets import AS_IT_LIES, AssetLoader
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value, greatest, least
from apilado.core.dsp.cycles import Recorded, cycles_of
from apilado.core.dsp.envelopes import DECAY_NEPERS
from apilado.core.dsp.modulation import noise
from apilado.core.dsp.oscillators import Copies, copies_at
from apilado.core.dsp.stereo import mixed_at
from apilado.core.notes import Run, voice_notes, voice_runs
from apilado.core.parameters import Model, number, parts
from apilado.core.sketch import Sketch
from apilado.core.sources.base import Score, Source, told_apart
from apilado.core.sources.filters import Standing, filter_list, standing
from apilado.core.sources.pushed import Pushed
from apilado.core.sources.settings import MOST_SETTINGS, Setting
from apilado.core.sources.voice import Envelope
from apilado.core.sources.voicing import RUNS, glide_track, in_run, run_frames, run_gain, shifted
from apilado.core.sources.wave import C2_HZ, CYCLE_MOVES, MOST_TONES, WHOLE_WITHIN, Tone, off_the_note
from apilado.core.treatments.filter import Filter
from apilado.core.units import beats_to_seconds, cents_to_ratio, db_to_gain

MOST_PARTS_OF_A_NOTE = 4
"""Ratios that are whole parts of up to so many to a note have a common measure."""
TICKS_PER_BEAT = 960
"""Chance tells places apart that lie as far from one another."""


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
    settings: tuple[Setting, ...] = parts("setting", most=MOST_SETTINGS)
    at_setting: Annotated[
        Value,
        number(
            low=0.0,
            high=float(MOST_SETTINGS),
            label="At setting",
            help="0: its waves as they are set, 1: as the first setting has them, and so on",
            moves=True,
        ),
    ] = 0.0
    filters: tuple[Filter, ...] = filter_list()
    filters_stand: Annotated[Standing, standing()] = "in a row"

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
        if not (self.wired() or self.settings):
            return {}
        inner = {each.id: str(n) for tone in self.tones for n, each in enumerate(tone.into)}
        return {**inner, **{tone.id: str(place) for place, tone in enumerate(self.tones)}}

    def wired(self) -> bool:
        """Whether any wave modulates another."""
        return any(tone.pushes() for tone in self.tones)

    def heard(self) -> tuple[Tone, ...]:
        """The waves that go out."""
        return tuple(tone for tone in self.tones if tone.heard())

    def asset_hashes(self) -> tuple[str, ...]:
        return tuple(tone.recorded.asset for tone in self.tones if tone.recorded)

    def side(self, *, through: bool) -> ToneSource | None:
        tones = [tone if tone.pushes() or tone.filtered == through else _off(tone) for tone in self.tones]
        if not any(tone.heard() for tone in tones):
            return None
        return self.model_copy(update={"tones": tuple(tones), "filters": (), "filters_stand": "in a row"})

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing at present."""
        idle = () if len(self.filters) > 1 else ("filters_stand",)
        return idle if self.settings else (*idle, "at_setting")

    def unused_in(self, member: BaseModel) -> tuple[str, ...]:
        return ("filtered",) if isinstance(member, Tone) and not self.filters else ()

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
        return (self.heard() or self.tones)[0].sketch()

    def tail_seconds(self, score: Score, clock: Clock) -> float:
        played = voice_notes(score.notes, clock.beats)
        over = max((note.end_beats for note in played), default=0.0) - clock.beats
        return max(0.0, beats_to_seconds(over, clock.tempo_bpm) + score.voice.envelope.release_ms / 1000.0)

    def turned(self, cycles: float) -> dict[str, float] | None:
        if any(tone.phase == "free" or tone.shape == "noise" or tone.tuning == "fixed" for tone in self.tones):
            return None
        if self.settings:  # these have start phases of their own
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
        if any(off_the_note(tone) for tone in self.tones if tone.shape != "noise"):
            said.append("'{layer}' plays other pitches than its neighbours: they cannot keep one phase.")
        if self.settings and greatest(self.at_setting) > 0.0:
            said.append("'{layer}' walks between settings, whose phases need not agree.")
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
        tables, kept = self._tables(load), told_apart(self, score, clock)
        runs, release = voice_runs(score.notes, clock, score.voice.mode), score.voice.envelope.release_ms
        pushing = self._pushing()
        for index, run, places in runs.heard(clock, runs.gates + clock.samples_in_ms(release)):
            play = partial(self._run, run, index, score, clock, out.shape[0], tables, pushing)
            part = play() if kept is None else RUNS.get((kept, self._told_apart(run, index, score, clock)), play)
            for place in places:
                mixed_at(out, part, place, looped=clock.looped)
        return out

    def _told_apart(self, run: Run, index: int, score: Score, clock: Clock) -> tuple[Hashable, ...]:
        """What a run hangs on besides: not its place, unless chance has a part in it or a single pass ends in it."""
        drawn = any(tone.phase == "free" or tone.shape == "noise" for tone in self.tones)
        chance = (score.seed, self._drawn_from(run, index, score)) if drawn else None
        frames = run_frames(run, score.voice.envelope, clock)
        heard = frames if clock.comes_round else min(frames, clock.frames - run.start)
        return run.gate_frames, run.cut_frames, run.pitches, run.velocity, heard, chance

    @staticmethod
    def _drawn_from(run: Run, index: int, score: Score) -> int:
        """What chance hangs on for a run, besides the seed."""
        return index if score.chance == "order" else round(run.start_beats * TICKS_PER_BEAT)

    def _tables(self, load: AssetLoader) -> dict[str, Recorded]:
        """The tables that are read from files, by the ids of their waves."""
        found = {tone.id: tone.recorded for tone in self.tones if tone.shape == "table" and tone.recorded}
        return {
            name: cycles_of(load(each.asset, AS_IT_LIES), each.cycle_frames, each.asset) for name, each in found.items()
        }

    def _run(
        self,
        run: Run,
        index: int,
        score: Score,
        clock: Clock,
        channels: int,
        tables: dict[str, Recorded],
        pushing: frozenset[str],
    ) -> Audio:
        gain = run_gain(run, score.voice.envelope, clock, self.velocity)
        part = np.zeros((channels, gain.shape[0]), np.float32)
        track = glide_track(run, score.transpose, score.voice.glide_ms, clock, gain.shape[0])
        if self.drop_semitones > 0.0:
            fall = np.exp(-DECAY_NEPERS * np.arange(gain.shape[0]) / clock.samples_in_ms(self.drop_ms))
            track = track * cents_to_ratio(100.0 * self.drop_semitones * fall)
        track = shifted(track, in_run(self.pitch_st, run, gain.shape[0]), 100.0)
        drawn_from = self._drawn_from(run, index, score)
        if pushing:
            gains = {tone.id: self.gain_of(tone, run, score.voice.envelope, clock, gain) for tone in self.tones}
            pushes = Pushed(self.tones, pushing, run, clock.rate_hz, track, gains, (score.seed, drawn_from), tables)
            part += pushes.sound(channels)
        for number_, tone in enumerate(self.tones):
            generator = np.random.default_rng([score.seed, number_, drawn_from])
            if not tone.heard():
                continue
            if tone.shape == "noise":
                own = self.gain_of(tone, run, score.voice.envelope, clock, gain)
                level = in_run(tone.level_db, run, gain.shape[0])
                louder = np.asarray(db_to_gain(np.asarray(level)), np.float32)
                given: dict[str, Any] = {"channels": channels, "spread": tone.spread}
                part += noise(gain.shape[0], tone.slope_db_per_octave, clock.rate_hz, generator, **given) * own * louder
            if tone.id in pushing or tone.shape == "noise":
                continue
            level, detune = (in_run(value, run, gain.shape[0]) for value in (tone.level_db, tone.detune_cents))
            louder = np.asarray(db_to_gain(np.asarray(level)) / math.sqrt(tone.copies), np.float32)
            played, way, ways = self._along(tone, track, run, gain.shape[0])
            heard = self.gain_of(tone, run, score.voice.envelope, clock, gain) * louder
            begins, places = tone.start_phase_deg / 360.0, tone.copy_places()
            phases = [begins + (generator.random() if tone.phase == "free" else 0.0) for _ in places]
            if isinstance(detune, float):
                shares, pans = np.ascontiguousarray(np.transpose(places))
                add = played.player(way, clock.rate_hz, ways, tables.get(tone.id))
                add(part, Copies(np.array(phases), cents_to_ratio(shares * detune), pans), gain=heard)
                continue
            for phase, (share, pan) in zip(phases, places, strict=True):  # every copy goes a way of its own
                add = played.player(shifted(way, share * detune, 1.0), clock.rate_hz, ways, tables.get(tone.id))
                add(part, copies_at([(phase, 1.0, pan)]), gain=heard)
        return part

    def _pushing(self) -> frozenset[str]:
        """The waves that push others or themselves, or are pushed, as far as it is heard; noise has no phase that could
        be."""
        wanted, needed = {tone.id for tone in self.heard()}, set[str]()
        for tone in reversed(self.tones):  # those that are pushed come later
            if tone.on and any(each.wave in wanted for each in tone.pushes()):
                wanted.add(tone.id)
                needed |= {tone.id, *(each.wave for each in tone.pushes() if each.wave in wanted)}
        needed |= {tone.id for tone in self.tones if tone.id in wanted and greatest(tone.feedback) > 0.0}
        return frozenset(needed) - {tone.id for tone in self.heard() if tone.shape == "noise"}

    def gain_of(
        self, tone: Tone, run: Run, env: Envelope, clock: Clock, gain: NDArray[np.float32]
    ) -> NDArray[np.float32]:
        """The envelope of a wave over a run: its own, as long as the voice sounds, or the voice's."""
        if tone.envelope is None:
            return gain
        own = run_gain(run, tone.envelope, clock, self.velocity)[: gain.shape[0]]
        return np.pad(own, (0, gain.shape[0] - own.shape[0]))

    @staticmethod
    def _along(
        tone: Tone, track: float | NDArray[np.float64], run: Run, frames: int
    ) -> tuple[Tone, float | NDArray[np.float64], dict[str, NDArray[np.float64]]]:
        """(a tone that stands still, the track that it then plays along, by name what moves of its cycle)."""
        names, unused = ("cents", "detune_cents", *CYCLE_MOVES), tone.unused()
        if not any(isinstance(getattr(tone, name), Curve) for name in names):
            return tone, C2_HZ if tone.tuning == "fixed" else track, {}
        values = {name: in_run(getattr(tone, name), run, frames) for name in names}
        values["cents"] = 0.0 if "cents" in unused else values["cents"]
        still = {name: value if isinstance(value, float) else float(value[0]) for name, value in values.items()}
        cents = values["cents"]
        played = tone.model_copy(update={**still, "cents": cents if isinstance(cents, float) else 0.0})
        ways = {
            name: value
            for name, value in values.items()
            if name in CYCLE_MOVES and name not in unused and not isinstance(value, float)
        }
        way = C2_HZ if tone.tuning == "fixed" else track if isinstance(cents, float) else shifted(track, cents, 1.0)
        return played, way, ways


def _off(tone: Tone) -> Tone:
    return tone.model_copy(update={"on": False})
