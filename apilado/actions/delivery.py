"""Use case: writing files of sound. The command line and the web deliver through the same functions."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from apilado.actions.delivery_plan import (
    DeliveryOptions,
    Stretch,
    file_names,
    named,
    parts_of,
    safe_name,
    stretches_of,
)
from apilado.actions.jobs import Task, Wanted
from apilado.actions.measures_data import measures_data
from apilado.actions.midi_delivery import midi_files, midi_names
from apilado.actions.workspace import Workspace
from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio, is_mono
from apilado.core.formats.audio_files import clipped_samples, write_audio
from apilado.core.measure.loudness import measure_loudness
from apilado.core.render.bouncing import rung_out
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import Graph, build, clock_of
from apilado.core.render.stage import stage
from apilado.core.soundings.measures import measure
from apilado.core.units import db_to_gain, gain_to_db
from apilado.errors import ApiladoError
from apilado.store.assets import PARTIAL

Progress = Callable[[float, str], None]
REPORT = "measures.json"
EPOCH = (1980, 1, 1, 0, 0, 0)
"""The time of every file in an archive: two deliveries of one revision are the same bytes."""
QUIET_LKFS = -60.0
"""What is quieter is not brought to a loudness or a peak."""


@dataclass(frozen=True)
class Planned:
    """What a delivery renders: its graph, how long it is, how much louder."""

    stack: Stack
    clock: Clock
    graph: Graph
    frames: int
    gain: float

    def cut(self, stretch: Stretch) -> tuple[int, int]:
        """(the first frame of a stretch, the frame behind its last); the last of a single pass has the tail."""
        first, last = (self.clock.sample_at(beats) for beats in stretch.beats(self.stack))
        return first, self.frames if stretch.last_bar == self.stack.bars else last


def planned(
    stack: Stack, load: AssetLoader, engine: Engine, options: DeliveryOptions, token: Token | None = None
) -> Planned:
    """What a delivery renders; all that is wanted of it is then in the engine's cache, as far as there is room.

    Raises:
        ApiladoError: nothing is wanted, or it is too quiet to be brought to a level.
        Overtaken: it is to stop.
    """
    at_rate = stack.model_copy(update={"sample_rate": options.rate_hz})
    clock = clock_of(at_rate, looped=options.extent == "loop")
    graph, parts = build(at_rate, clock, load), parts_of(stack, options)
    if not parts and not options.notes and not options.curves:
        raise ApiladoError("there is nothing to write: choose the mix, the bass, the kick or the layers")
    frames = clock.frames
    if not clock.looped and parts:
        # It ends where all of its files have rung out: they stay equally long.
        frames = rung_out(engine, [part.find(graph) for part in parts], clock, token)
    return Planned(at_rate, clock, graph, frames, _gain(graph, clock, engine, options, token))


def _gain(graph: Graph, clock: Clock, engine: Engine, options: DeliveryOptions, token: Token | None) -> float:
    """By how much everything is made louder, so that the mix has the level that is asked for."""
    if options.level == "as-it-is":
        return 1.0
    measured = stage(measure_loudness, graph.output, rate_hz=clock.rate_hz, looped=clock.looped)
    loudness = engine.run([measured], token)[0]
    there, wanted = loudness.integrated_lkfs, options.loudness_lufs
    if there < QUIET_LKFS:
        raise ApiladoError(f"the mix is too quiet to be brought to a level: {there:.0f} LUFS")
    if options.level == "peak":
        there, wanted = loudness.true_peak_dbtp, options.peak_db
    return float(db_to_gain(wanted - there))


def check(stack: Stack, options: DeliveryOptions, state: int = 0) -> None:
    """
    Raises:
        ApiladoError: FLAC with 32-bit float, names that are not valid, or nothing to write.
    """
    if options.file_format == "flac" and options.bits == "32f":
        raise ApiladoError("FLAC holds 16 or 24 bits; 32-bit float needs WAV")
    if not file_names(stack, options, state) and not options.notes and not options.curves:
        raise ApiladoError("there is nothing to write: choose the mix, the bass, the kick or the layers")


def rendered_files(
    stack: Stack,
    load: AssetLoader,
    engine: Engine,
    options: DeliveryOptions,
    progress: Progress,
    token: Token | None = None,
    *,
    state: int = 0,
) -> Iterator[tuple[str, bytes]]:
    """(name, content) of each file of a delivery, rendered at the rate asked for; `measures.json` comes last.

    Layer stems are after the duck and before the bus, of the layers that are heard: they sum to the bus input, and
    that is checked.

    Raises:
        ApiladoError: as `check`, or the mix is too quiet to be brought to a level.
        Overtaken: it is to stop.
    """
    check(stack, options, state)
    progress(0.0, "Rendering")
    plan = planned(stack, load, engine, options, token)
    parts, stretches = parts_of(stack, options), stretches_of(stack, options)
    count = len(parts) * len(stretches)
    clipped, peaks = dict[str, int](), dict[str, float]()
    total: Any = 0.0
    for turn, part in enumerate(parts):
        audio = engine.run([part.find(plan.graph)], token)[0][:, : plan.frames]
        if part.owner:
            total = total + audio.astype(np.float64)
        audio = audio if plan.gain == 1.0 else audio * np.float32(plan.gain)
        for place, stretch in enumerate(stretches, start=1):
            index = (place - 1) * len(parts) + turn
            name = f"{named(stack, options, part.key, place, stretch, state)}.{options.file_format}"
            progress((turn * len(stretches) + place - 1) / (count + 1), name)
            first, last = plan.cut(stretch)
            content, channels = _file(audio[:, first:last], plan.clock.rate_hz, options, stack.seed + index)
            clipped[name] = clipped_samples(channels, options.bits)
            peaks[name] = round(float(gain_to_db(np.max(np.abs(channels), initial=0.0))), 2)
            yield name, content
    yield from midi_files(stack, load, engine, options, state, token)
    progress(count / (count + 1), "Measuring")
    sums = _sum_check(plan, engine, total, token) if options.layers else None
    measures = measure(plan.stack, load, engine, token)
    found = {"frames": plan.frames, "clipped_samples": clipped, "peaks_dbfs": peaks}
    found |= {"gain_db": round(float(gain_to_db(plan.gain)), 2), "state": state, "sum_check": sums}
    yield REPORT, (json.dumps({**measures_data(measures), **found}, indent=1) + "\n").encode()
    progress(1.0, "Done")


def _file(audio: Audio, rate_hz: int, options: DeliveryOptions, seed: int) -> tuple[bytes, Audio]:
    """(the content of a file, the channels that it holds)."""
    if options.mono == "mono" and is_mono(audio):
        audio = audio[:1]
    content = write_audio(audio, rate_hz, file_format=options.file_format, bits=options.bits, seed=seed)
    return content, audio


def _sum_check(plan: Planned, engine: Engine, total: Any, token: Token | None) -> dict[str, float]:
    """How far the sum of the stems is from what goes into the bus, at the most, before any gain."""
    bus_input = engine.run([plan.graph.bus_input], token)[0][:, : plan.frames]
    apart = float(np.max(np.abs(total - bus_input), initial=0.0))
    return {"stems_against_bus_input_dbfs": round(float(gain_to_db(apart)), 1)}


def clipping_in_words(measures_json: bytes) -> str:
    """What a delivery's report says of samples that its files could not hold; '' where they held all."""
    counts = {name: count for name, count in json.loads(measures_json)["clipped_samples"].items() if count}
    if not counts:
        return ""
    named = ", ".join(f"{name}: {count}" for name, count in counts.items())
    return f"Samples over full scale were cut off ({named}). Turn it down, or write 32-bit float."


def sum_in_words(measures_json: bytes) -> str:
    """What a delivery's report says of the sum of its stems; '' where it has none."""
    found = json.loads(measures_json)["sum_check"]
    if found is None:
        return ""
    apart = f"{found['stems_against_bus_input_dbfs']:.0f}".replace("-", "−")
    return f"The stems sum to what goes into the bus, within {apart} dBFS."


class Deliver(Wanted):
    """A ZIP with the files of a delivery, kept until it is removed from the list."""

    kind: ClassVar[str] = "deliver"

    options: DeliveryOptions = Field(default_factory=DeliveryOptions)

    def title(self, stack: Stack) -> str:
        count = len(file_names(stack, self.options)) + len(midi_names(stack, self.options))
        return f"Deliver {count} file{'' if count == 1 else 's'}"

    def check(self, stack: Stack) -> None:
        check(stack, self.options)

    def run(self, task: Task) -> dict[str, Any]:
        workspace, stack = task.workspace, task.stack
        path, names, said = archive_path(workspace, task.number), list[str](), list[str]()
        given = (stack, workspace.load, workspace.engine, self.options, task.tell, task.token)
        with archive(path, safe_name(stack.name)) as write:
            for name, content in rendered_files(*given, state=task.revision):
                write(name, content)
                names.append(name)
                if name == REPORT:
                    said = [each for each in (clipping_in_words(content), sum_in_words(content)) if each]
        made = {"bytes": path.stat().st_size, "files": names, "file_name": f"{safe_name(stack.name)}.zip"}
        return {**made, "said": " ".join(["All files are written.", *said])}

    def let_go(self, workspace: Workspace, number: int) -> None:
        archive_path(workspace, number).unlink(missing_ok=True)


def archive_path(workspace: Workspace, number: int) -> Path:
    """Where the ZIP of a delivery lies."""
    return workspace.deliveries / f"{number}.zip"


@contextmanager
def archive(path: Path, folder: str) -> Iterator[Callable[[str, bytes], None]]:
    """A ZIP that is there whole or not at all; gives what writes a file, by its name in the folder, into it."""
    partial = path.with_name(path.name + PARTIAL)
    try:
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as held:
            yield lambda name, content: held.writestr(zipfile.ZipInfo(f"{folder}/{name}", EPOCH), content)
        partial.replace(path)
    finally:
        partial.unlink(missing_ok=True)
