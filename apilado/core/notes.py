"""Notes, and how one voice plays them."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.breaking_off import may_break_off
from apilado.core.identity import ByIdentity
from apilado.core.parameters import Model, integer, note_pitch, number, switch

FIRST_BEAT = 1.0
"""Pages count beats from 1, as musicians do; a document holds how many have gone by."""
SHORTEST_HELD_BEATS = 1 / 64
"""What is left of a note between others is no shorter."""
LEGATO_BEATS = 1e-6
"""A gap this short between two notes still joins them."""


class Note(Model):
    """One note of a pattern."""

    start_beats: Annotated[
        float, number(low=0.0, high=1024.0, step=0.25, first=FIRST_BEAT, over="piece", label="Beat")
    ] = 0.0
    length_beats: Annotated[
        float, number(low=1 / 64, high=256.0, step=0.25, unit="beats", over="piece", label="Length")
    ] = 1.0
    pitch: Annotated[int, note_pitch(label="Pitch")] = 36
    velocity: Annotated[int, integer(low=1, high=127, label="Velocity")] = 100
    slide: Annotated[bool, switch(label="Slide", help="Glides on from the note before, with no new attack")] = False

    @property
    def end_beats(self) -> float:
        """Where the note ends."""
        return self.start_beats + self.length_beats


def in_order(notes: tuple[Note, ...]) -> tuple[Note, ...]:
    """Notes by where they start, the lowest first."""
    return tuple(sorted(notes, key=lambda note: (note.start_beats, note.pitch)))


def cut_short(note: Note, end_beats: float) -> Note:
    """A note that ends at a beat at the latest; it begins before."""
    if note.end_beats <= end_beats:
        return note
    return note.model_copy(update={"length_beats": end_beats - note.start_beats})


def again(notes: Sequence[Note], every_beats: float, beats: float) -> tuple[Note, ...]:
    """Notes played again and again after a number of beats, up to `beats`; those that begin later than that are not."""
    inside = [note for note in notes if note.start_beats < every_beats]
    rounds = range(math.ceil(beats / every_beats))
    found = [
        note.model_copy(update={"start_beats": note.start_beats + number * every_beats})
        for number in rounds
        for note in inside
    ]
    return in_order(tuple(note for note in found if note.start_beats < beats))


def lowest_first(notes: Sequence[Note]) -> tuple[Note, ...]:
    """What a voice plays that gives the lowest of the notes that are held: a higher one waits, and comes in when the
    lower one has ended while it is still held."""
    times = sorted({time for note in notes for time in (note.start_beats, note.end_beats)})
    held: list[tuple[Note, float, float]] = []
    for begin, end in itertools.pairwise(times):
        active = [note for note in notes if note.start_beats <= begin and note.end_beats > begin]
        if not active:
            continue
        lowest = min(active, key=lambda note: (note.pitch, -note.start_beats))
        if held and held[-1][0] is lowest and held[-1][2] == begin:
            held[-1] = (lowest, held[-1][1], end)
        else:
            held.append((lowest, begin, end))
    return tuple(
        note.model_copy(update={"start_beats": begin, "length_beats": end - begin})
        for note, begin, end in held
        if end - begin >= SHORTEST_HELD_BEATS
    )


@dataclass(frozen=True)
class Run:
    """A stretch that one voice plays without a new attack: a note, and those that slide on from it."""

    start: int
    gate_frames: int
    cut_frames: int | None
    """After how many frames the next run takes the voice away, or None."""
    pitches: tuple[tuple[int, int], ...]
    """(frames after the start, MIDI pitch), the first at 0."""
    velocity: int
    start_beats: float


def voice_notes(notes: Sequence[Note], beats: float) -> list[Note]:
    """The notes that a single voice plays within `beats`, in order; of notes that start together, the lowest."""
    ordered = sorted((n for n in notes if n.start_beats < beats), key=lambda n: (n.start_beats, n.pitch))
    return [n for i, n in enumerate(ordered) if i == 0 or n.start_beats > ordered[i - 1].start_beats]


@dataclass(frozen=True, eq=False)
class Runs(Sequence[Run]):
    """The runs of a voice, in order."""

    each: tuple[Run, ...]
    starts: NDArray[np.int64]
    gates: NDArray[np.int64]
    """For how many frames each is held."""

    @classmethod
    def of(cls, runs: Sequence[Run]) -> Runs:
        starts, gates = ([getattr(run, name) for run in runs] for name in ("start", "gate_frames"))
        return cls(tuple(runs), np.array(starts, np.int64), np.array(gates, np.int64))

    def __len__(self) -> int:
        return len(self.each)

    def __getitem__(self, index: Any) -> Any:
        return self.each[index]

    def heard(self, clock: Clock, lengths: NDArray[np.int64]) -> Iterator[tuple[int, Run, list[int]]]:
        """(its number, a run, where in the render it lies) of those that are heard in it, given how long each sounds.

        Of a stretch of a long piece these are few, and they alone are looked at.
        """
        for index in clock.which(self.starts, lengths):
            may_break_off()
            run = self.each[index]
            yield index, run, clock.places(run.start, int(lengths[index]))


_RUNS = ByIdentity(64)


def voice_runs(notes: Sequence[Note], clock: Clock, mode: str = "slides") -> Runs:
    """The runs that a single voice plays; in a loop the last is cut by the first of the next round.

    Args:
        mode: whether notes go on from the one before that they touch: 'slides' those that are marked, 'legato' all,
            'retrigger' none.
    """
    if not isinstance(notes, tuple):
        return Runs.of(_runs_of(notes, clock, mode))
    beside = clock.tempo_bpm, clock.beats, clock.rate_hz, clock.comes_round, mode
    return _RUNS.get(lambda: Runs.of(_runs_of(notes, clock, mode)), notes, beside=beside)


def _runs_of(notes: Sequence[Note], clock: Clock, mode: str) -> list[Run]:
    groups: list[list[Note]] = []
    for note in voice_notes(notes, clock.beats):
        goes_on = mode == "legato" or (mode == "slides" and note.slide)
        joined = bool(groups) and goes_on and note.start_beats <= groups[-1][-1].end_beats + LEGATO_BEATS
        if joined:
            groups[-1].append(note)
        else:
            groups.append([note])
    starts = [clock.sample_at(group[0].start_beats) for group in groups]
    runs = []
    for index, group in enumerate(groups):
        start = starts[index]
        following = starts[index + 1] if index + 1 < len(groups) else None
        if following is None and clock.comes_round:
            following = starts[0] + clock.loop_frames
        runs.append(
            Run(
                start=start,
                gate_frames=clock.sample_at(group[-1].end_beats) - start,
                cut_frames=None if following is None else following - start,
                pitches=tuple((clock.sample_at(n.start_beats) - start, n.pitch) for n in group),
                velocity=group[0].velocity,
                start_beats=group[0].start_beats,
            )
        )
    return runs
