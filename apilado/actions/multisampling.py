"""Use case: a stack as an instrument: its notes one by one as WAV files, and an SFZ file that maps them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from apilado.actions.delivery import archive, archive_path
from apilado.actions.delivery_plan import safe_name
from apilado.actions.jobs import Task, Wanted
from apilado.actions.tapping import release_ms_of, tapped_stack
from apilado.actions.workspace import Workspace
from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio, sounding_until
from apilado.core.formats.audio_files import clipped_samples, write_audio
from apilado.core.formats.sampler_chunk import with_sampler_chunk
from apilado.core.formats.sfz_files import Region, write_sfz
from apilado.core.measure.loop_points import LoopPoints, crossfaded, loop_points
from apilado.core.parameters import Model, choice, integer, note_pitch, number, switch
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import build, clock_of
from apilado.core.render.playing import source_root
from apilado.core.render.tail import tail_seconds
from apilado.core.units import midi_to_hz, midi_to_name
from apilado.errors import InvalidEdit

MOST_SAMPLES = 512
SILENT_DB, AFTER_FRAMES = -96.0, 64
SETTLES_S, ENDS_S = 0.25, 0.03
"""A loop begins no earlier, and ends so long before the note is let go."""


class MultisampleOptions(Model):
    """Which notes are rendered, and up to where."""

    layer: str = Field(
        default="", max_length=40, description="Id of the layer that is taken; empty: all, behind the bus"
    )
    lowest: Annotated[int, note_pitch(label="From")] = 24
    highest: Annotated[int, note_pitch(label="To")] = 48
    every: Annotated[int, integer(low=1, high=24, label="Every", unit="st")] = 3
    velocities: Annotated[int, integer(low=1, high=8, label="Velocities")] = 1
    turns: Annotated[
        int, integer(low=1, high=8, label="Round robins", help="Each with free phases of its own, where there are any")
    ] = 1
    held_s: Annotated[float, number(low=0.1, high=20.0, step=0.1, unit="s", label="Held")] = 2.0
    loops: Annotated[bool, switch(label="Loops", help="Found where the wave joins; what does not last has none")] = True
    crossfade_ms: Annotated[
        float, number(low=0.0, high=500.0, step=1.0, unit="ms", label="Crossfade", help="Of a loop's end")
    ] = 15.0
    bits: Annotated[
        Literal["16", "24", "32f"], choice(label="Bits", names={"16": "16-bit", "24": "24-bit", "32f": "32-bit float"})
    ] = "24"
    rate_hz: Annotated[Literal[44100, 48000, 96000], choice(label="Rate", unit="Hz")] = 48000

    @model_validator(mode="after")
    def _ranged(self) -> MultisampleOptions:
        if self.highest < self.lowest:
            raise ValueError(f"it runs upwards, not from {midi_to_name(self.lowest)} to {midi_to_name(self.highest)}")
        if self.count() > MOST_SAMPLES:
            raise ValueError(f"these are {self.count()} samples; the most is {MOST_SAMPLES}")
        return self

    def pitches(self) -> tuple[int, ...]:
        """The notes that are rendered."""
        return tuple(range(self.lowest, self.highest + 1, self.every))

    def count(self) -> int:
        """How many samples that makes."""
        return len(self.pitches()) * self.velocities * self.turns

    def keys(self, pitch: int) -> tuple[int, int]:
        """(the lowest key that a note's sample is played by, the highest)."""
        below, above = (self.every - 1) // 2, self.every // 2
        first, last = pitch == self.lowest, pitch + self.every > self.highest
        return (0 if first else pitch - below), (127 if last else pitch + above)

    def velocity_range(self, place: int) -> tuple[int, int]:
        """(the lowest velocity of one of the velocities, counted from 0, the highest)."""
        edges = [round(1 + 127 * each / self.velocities) for each in range(self.velocities + 1)]
        return edges[place], edges[place + 1] - 1


@dataclass(frozen=True)
class Rendered:
    """A sample."""

    name: str
    content: bytes
    region: Region
    clipped: int


def check(stack: Stack, options: MultisampleOptions) -> None:
    """
    Raises:
        InvalidEdit: there is no such layer, or nothing that plays notes.
    """
    tapped_stack(stack, options.lowest, 100, options.layer)
    layer = stack.layer(options.layer)
    if layer is not None and not source_root(stack, layer).source.plays_notes:
        raise InvalidEdit(f"'{layer.name}' is a recording: it plays no notes that could be rendered one by one")


def note_alone(
    stack: Stack,
    options: MultisampleOptions,
    load: AssetLoader,
    engine: Engine,
    *,
    pitch: int,
    velocity: int,
    turn: int = 1,
    token: Token | None = None,
) -> Audio:
    """One note through everything up to the point that was chosen, with its tail, shape (2, frames).

    Raises:
        Overtaken: it is to stop.
    """
    beats = options.held_s * stack.tempo_bpm / 60.0
    alone = tapped_stack(stack, pitch, velocity, options.layer, held_s=options.held_s)
    # Free phases are drawn anew for each turn.
    alone = alone.model_copy(update={"seed": (stack.seed + turn - 1) % 2**31})
    tail = tail_seconds(alone, options.rate_hz)
    clock = Clock(stack.tempo_bpm, beats, options.rate_hz, looped=False, tail_seconds=tail, whole_beats=stack.beats)
    measured = build(stack, clock_of(stack, looped=True, rate_hz=options.rate_hz), load).measured
    graph = build(alone, clock, load, known=measured)
    wanted = graph.before_duck[options.layer] if options.layer else graph.buses["bus"]
    (audio,) = engine.run([wanted], token)
    end = min(audio.shape[1], int(sounding_until(audio, SILENT_DB)) + AFTER_FRAMES)
    return np.ascontiguousarray(audio[:, : max(AFTER_FRAMES, end)])


def samples(
    stack: Stack,
    options: MultisampleOptions,
    load: AssetLoader,
    engine: Engine,
    progress: Callable[[float, str], None],
    token: Token | None = None,
) -> Iterator[Rendered]:
    """Every sample, from the lowest note up.

    Raises:
        InvalidEdit: as `check`.
        Overtaken: it is to stop.
    """
    check(stack, options)
    done = 0
    for pitch in options.pitches():
        for place in range(options.velocities):
            lowest, highest = options.velocity_range(place)
            found: list[Audio] = []
            for turn in range(1, options.turns + 1):
                progress(done / options.count(), f"{midi_to_name(pitch)}, {done + 1} of {options.count()}")
                done += 1
                velocity = (lowest + highest + 1) // 2 if options.velocities > 1 else 127
                given = {"pitch": pitch, "velocity": velocity, "turn": turn, "token": token}
                audio = note_alone(stack, options, load, engine, **given)
                if found and any(np.array_equal(audio, each) for each in found):
                    break  # nothing in it is drawn by lot: another turn would be the same
                found.append(audio)
            for turn, audio in enumerate(found, start=1):
                region = Region("", pitch, *options.keys(pitch), lowest, highest, turn, len(found))
                yield _written(stack, options, audio, region, place)


def _written(stack: Stack, options: MultisampleOptions, audio: Audio, region: Region, place: int) -> Rendered:
    hertz, rate = float(midi_to_hz(region.root)), options.rate_hz
    loop: LoopPoints | None = None
    if options.loops:
        last = options.held_s - ENDS_S
        loop = loop_points(audio, rate, hertz=hertz, first_s=min(SETTLES_S, last / 3.0), last_s=last)
    if loop is not None:
        audio = crossfaded(audio, loop, round(options.crossfade_ms * rate / 1000.0))
    name = f"{region.root:03d}-{midi_to_name(region.root).replace('#', 's')}"
    name += f"-v{region.high_velocity:03d}" if options.velocities > 1 else ""
    name += f"-{region.turn}" if region.turns > 1 else ""
    content = write_audio(audio, rate, bits=options.bits, seed=stack.seed + 128 * place + region.root)
    ends = None if loop is None else (loop.first, loop.behind)
    content = with_sampler_chunk(content, rate, pitch=region.root, loop_frames=ends)
    path = f"samples/{name}.wav"
    mapped = Region(**{**region.__dict__, "sample": path, "loop": ends})
    return Rendered(path, content, mapped, clipped_samples(audio, options.bits))


def instrument(stack: Stack, options: MultisampleOptions, regions: list[Region]) -> str:
    """The SFZ file that maps the samples."""
    taken = stack.layer(options.layer)
    about = f"{stack.name}{f', {taken.name}' if taken else ''}, made with Apilado"
    shares = [layer.source.velocity_share() for layer in stack.layers if layer.source.plays_notes]
    share = 0.0 if options.velocities > 1 else max(shares, default=0.0)
    return write_sfz(regions, about=about, release_s=release_ms_of(stack, options.layer) / 1000.0, velocity_share=share)


def files(
    stack: Stack,
    options: MultisampleOptions,
    load: AssetLoader,
    engine: Engine,
    progress: Callable[[float, str], None],
    token: Token | None = None,
) -> Iterator[tuple[str, bytes, int]]:
    """(name, content, samples that were cut off) of each file; the SFZ comes last.

    Raises:
        InvalidEdit: as `check`.
        Overtaken: it is to stop.
    """
    regions = []
    for each in samples(stack, options, load, engine, progress, token):
        regions.append(each.region)
        yield each.name, each.content, each.clipped
    yield f"{safe_name(stack.name)}.sfz", instrument(stack, options, regions).encode(), 0


class Multisample(Wanted):
    """A ZIP with an instrument, kept until it is removed from the list."""

    kind: ClassVar[str] = "multisample"

    options: MultisampleOptions = Field(default_factory=MultisampleOptions)

    def title(self, stack: Stack) -> str:
        return f"Multisample of {self.options.count()} notes"

    def check(self, stack: Stack) -> None:
        check(stack, self.options)

    def run(self, task: Task) -> dict[str, Any]:
        workspace, stack, named = task.workspace, task.stack, safe_name(task.stack.name)
        path, names, clipped = archive_path(workspace, task.number), list[str](), 0
        given = (stack, self.options, workspace.load, workspace.engine, task.tell, task.token)
        with archive(path, named) as write:
            for name, content, cut in files(*given):
                write(name, content)
                names.append(name)
                clipped += cut
        said = f"{len(names) - 1} samples and an SFZ file are written."
        said += f" {clipped} values over full scale were cut off: turn it down." if clipped else ""
        file_name = f"{named}-multisample.zip"
        return {"bytes": path.stat().st_size, "files": names, "file_name": file_name, "said": said}

    def let_go(self, workspace: Workspace, number: int) -> None:
        archive_path(workspace, number).unlink(missing_ok=True)
