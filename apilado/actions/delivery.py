"""Use case: writing files of sound. The command line and the web deliver through the same functions."""

from __future__ import annotations

import json
import re
import secrets
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from threading import Lock, Thread
from typing import Annotated, Any, Literal

import numpy as np

from apilado import __version__
from apilado.actions.workspace import Workspace
from apilado.core.assets import AssetLoader
from apilado.core.document.stack import Stack
from apilado.core.formats.audio_files import Bits, FileFormat, clipped_samples, write_audio
from apilado.core.parameters import Model, choice, switch
from apilado.core.render.bouncing import rung_out
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import Graph, build, clock_of
from apilado.core.render.stage import Stage
from apilado.core.soundings.measures import Measures, measure
from apilado.core.soundings.registry import sound
from apilado.core.units import gain_to_db
from apilado.errors import ApiladoError, NotFound, Overtaken
from apilado.store.assets import PARTIAL

Progress = Callable[[float, str], None]
REPORT = "measures.json"
EPOCH = (1980, 1, 1, 0, 0, 0)
"""The time of every file in an archive: two deliveries of one revision are the same bytes."""


class DeliveryOptions(Model):
    """What to write, and how."""

    extent: Annotated[Literal["loop", "one-pass"], choice(label="Extent")] = "loop"
    file_format: Annotated[Literal["wav", "flac"], choice(label="File")] = "wav"
    bits: Annotated[Literal["16", "24", "32f"], choice(label="Bits")] = "24"
    rate_hz: Annotated[Literal[44100, 48000, 96000], choice(label="Rate", unit="Hz")] = 48000
    mono: Annotated[
        Literal["stereo", "mono"],
        choice(label="Files of what is mono", names={"stereo": "two equal channels", "mono": "one channel"}),
    ] = "stereo"
    layers: Annotated[bool, switch(label="A stem of each layer")] = True
    bass: Annotated[bool, switch(label="Bass")] = True
    space: Annotated[bool, switch(label="Space", help="Where something is sent to it; the bass is without it")] = True
    kick: Annotated[bool, switch(label="Kick and drums")] = True
    mix: Annotated[bool, switch(label="Mix")] = True


def safe_name(name: str) -> str:
    """A name that any file system takes."""
    return re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-.") or "stack"


def rendered_files(
    stack: Stack,
    load: AssetLoader,
    engine: Engine,
    options: DeliveryOptions,
    progress: Progress,
    token: Token | None = None,
) -> Iterator[tuple[str, bytes]]:
    """(name, content) of each file of a delivery, rendered at the rate asked for; `measures.json` comes last.

    Layer stems are after the duck and before the bus, of the layers that are heard: they sum to the bus input.

    Raises:
        ApiladoError: FLAC with 32-bit float, or nothing to write.
    """
    if options.file_format == "flac" and options.bits == "32f":
        raise ApiladoError("FLAC holds 16 or 24 bits; 32-bit float needs WAV")
    at_rate = stack.model_copy(update={"sample_rate": options.rate_hz})
    clock = clock_of(at_rate, looped=options.extent == "loop")
    graph = build(at_rate, clock, load)
    wanted = [(name, find(graph)) for name, find in _wanted(stack, options)]
    if not wanted:
        raise ApiladoError("there is nothing to write: choose the mix, the bass, the kick or the layers")
    steps = 2 * len(wanted) + 1
    frames = clock.frames
    if not clock.looped:
        # It ends where all of its files have rung out: they stay equally long.
        for index, (name, wished) in enumerate(wanted):
            progress(index / steps, f"Rendering {name}")
            engine.run([wished], token)
        frames = rung_out(engine, [wished for _, wished in wanted], clock, token)
    clipped = {}
    for index, (name, wished) in enumerate(wanted):
        progress((len(wanted) + index) / steps, f"Writing {name}")
        audio = engine.run([wished], token)[0][:, :frames]
        if options.mono == "mono" and np.array_equal(audio[0], audio[-1]):
            audio = audio[:1]
        bits: Bits = options.bits
        file_format: FileFormat = options.file_format
        content = write_audio(audio, clock.rate_hz, file_format=file_format, bits=bits, seed=stack.seed + index)
        clipped[f"{name}.{file_format}"] = clipped_samples(audio, bits)
        yield f"{name}.{file_format}", content
    progress((steps - 1) / steps, "Measuring")
    measures = measure(at_rate, load, engine, token)
    data = {**measures_data(measures), "frames": frames, "clipped_samples": clipped}
    yield REPORT, (json.dumps(data, indent=1) + "\n").encode()
    progress(1.0, "Done")


def _wanted(stack: Stack, options: DeliveryOptions) -> list[tuple[str, Callable[[Graph], Stage]]]:
    """(name, what to render) of each file of sound, in order."""

    def drum(name: str) -> Callable[[Graph], Stage]:
        return lambda graph: graph.drums[name]

    def layer(name: str) -> Callable[[Graph], Stage]:
        return lambda graph: graph.layers[name]

    wanted: list[tuple[str, Callable[[Graph], Stage]]] = []
    if options.mix:
        wanted.append(("mix", lambda graph: graph.output))
    if options.bass:
        wanted.append(("bass", lambda graph: graph.buses["bus"]))
    if options.space and stack.senders() and stack.sounds("space"):
        wanted.append(("space", lambda graph: graph.buses["space"]))
    if options.kick:
        wanted.append(("kick", drum("kick")))
        heard = [trigger for trigger in stack.triggers if not trigger.mute]
        wanted += [(f"drum-{safe_name(trigger.name)}-{trigger.id}", drum(trigger.id)) for trigger in heard]
    if options.layers:
        audible = {layer.id for layer in stack.audible_layers()}
        for number, each in enumerate(stack.layers, start=1):
            if each.id in audible:
                wanted.append((f"layer-{number:02d}-{safe_name(each.name)}", layer(each.id)))
    return wanted


def file_names(stack: Stack, options: DeliveryOptions) -> list[str]:
    """The files of sound that a delivery will write."""
    return [f"{name}.{options.file_format}" for name, _ in _wanted(stack, options)]


def clipping_in_words(measures_json: bytes) -> str:
    """What a delivery's report says of samples that its files could not hold; '' where they held all."""
    counts = {name: count for name, count in json.loads(measures_json)["clipped_samples"].items() if count}
    if not counts:
        return ""
    named = ", ".join(f"{name}: {count}" for name, count in counts.items())
    return f"Samples over full scale were cut off ({named}). Turn it down, or write 32-bit float."


def measures_data(measures: Measures) -> dict[str, Any]:
    """The measurements of a stack as plain values."""
    loudness = measures.output_loudness
    return {
        "apilado": __version__,
        "name": measures.stack.name,
        "rate_hz": measures.clock.rate_hz,
        "loop_frames": measures.clock.loop_frames,
        "mix": {
            "integrated_lkfs": round(loudness.integrated_lkfs, 2),
            "momentary_max_lkfs": round(loudness.momentary_max_lkfs, 2),
            "true_peak_dbtp": round(loudness.true_peak_dbtp, 2),
        },
        "headroom": {
            "without_duck_dbfs": round(measures.headroom.before_db, 2),
            "with_duck_dbfs": round(measures.headroom.after_db, 2),
        },
        "bass_peak_db": round(float(gain_to_db(measures.bass.peak)), 2),
        "kick_peak_db": round(float(gain_to_db(measures.kick.peak)), 2),
        "layers": {
            name: {
                "level_db": round(stem.level_db(), 2),
                "peak_db": round(float(gain_to_db(stem.peak)), 2),
                "notes": [
                    {
                        "start_beats": note.start_beats,
                        "pitch": note.pitch,
                        "level_db": round(note.level_db, 2),
                        "frequency_hz": None if note.frequency_hz is None else round(note.frequency_hz, 2),
                    }
                    for note in measures.notes[name]
                ],
            }
            for name, stem in measures.stems.items()
        },
        "borders": [
            {
                "crossover": index,
                "frequency_hz": border.frequency_hz,
                "lower": border.lower,
                "upper": border.upper,
                "phase_deg": round(border.phase_deg, 1),
                "coherence_gain_db": round(border.coherence_gain_db, 2),
            }
            for index, border in measures.borders
        ],
        "soundings": [sounding.as_data() for sounding in sound(measures)],
    }


@dataclass
class Delivery:
    """A ZIP being written in the background."""

    id: str
    file_name: str
    path: Path
    share: float = 0.0
    doing: str = "Waiting"
    error: str | None = None
    warning: str = ""
    done: bool = False
    token: Token = field(default_factory=Token)


class Deliveries:
    """The deliveries of this run of the program, by id."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._jobs: dict[str, Delivery] = {}
        self._lock = Lock()

    def start(self, stack: Stack, options: DeliveryOptions) -> Delivery:
        """Begins a delivery; ask `get` how it goes."""
        job_id = secrets.token_hex(8)
        job = Delivery(job_id, f"{safe_name(stack.name)}.zip", self._workspace.deliveries / f"{job_id}.zip")
        with self._lock:
            self._jobs[job_id] = job
        Thread(target=self._run, args=(job, stack, options), name=f"delivery {job_id}", daemon=True).start()
        return job

    def get(self, job_id: str) -> Delivery:
        """A delivery by its id.

        Raises:
            NotFound: there is none in this run of the program.
        """
        job = self._jobs.get(job_id)
        if job is None:
            raise NotFound("there is no such delivery; it may have been made before a restart")
        return job

    def _run(self, job: Delivery, stack: Stack, options: DeliveryOptions) -> None:
        partial = job.path.with_name(job.path.name + PARTIAL)

        def progress(share: float, doing: str) -> None:
            job.share, job.doing = share, doing

        try:
            files = rendered_files(stack, self._workspace.load, self._workspace.engine, options, progress, job.token)
            with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as archive:
                for name, content in files:
                    archive.writestr(zipfile.ZipInfo(f"{safe_name(stack.name)}/{name}", EPOCH), content)
                    if name == REPORT:
                        job.warning = clipping_in_words(content)
            partial.replace(job.path)
            job.done = True
        except Overtaken:
            job.error = "Stopped."
        except ApiladoError as error:
            job.error = str(error)
        except Exception as error:
            job.error = f"The delivery failed: {error}"
            raise
        finally:
            partial.unlink(missing_ok=True)
