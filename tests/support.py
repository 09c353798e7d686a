"""What the tests share: signals, small stacks, renders, files."""

from __future__ import annotations

import hashlib
import io
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from pydantic import BaseModel

from apilado.actions.workspace import Workspace
from apilado.core.assets import AssetLoader
from apilado.core.document.equaliser import Point
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import AnyStep, Equaliser, layer_path
from apilado.core.document.stack import Bus, Crossover, Limiter, Stack
from apilado.core.dsp.audio import Audio, as_audio
from apilado.core.formats.audio_files import read_at
from apilado.core.notes import Note
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.render.engine import Engine
from apilado.core.render.graph import Graph, build, clock_of
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.take import TakeSource
from apilado.core.treatments.base import Treatment
from apilado.errors import NotFound

ENGINE = Engine()
RATES = (44100, 48000, 96000)


def sine(
    frequency_hz: float, seconds: float, rate_hz: int = 48000, amplitude: float = 1.0, phase: float = 0.0
) -> Audio:
    """A sine in both channels."""
    t = np.arange(round(seconds * rate_hz)) / rate_hz
    wave = amplitude * np.sin(2 * np.pi * frequency_hz * t + phase)
    return as_audio(np.stack([wave, wave]))


def noise(frames: int, seed: int = 1, channels: int = 2, amplitude: float = 0.3) -> Audio:
    """White noise."""
    return as_audio(amplitude * np.random.default_rng(seed).standard_normal((channels, frames)))


def wav(audio: Audio, rate_hz: int = 48000, subtype: str = "FLOAT", file_format: str = "WAV") -> bytes:
    """An audio file."""
    buffer = io.BytesIO()
    soundfile.write(buffer, audio.T, rate_hz, format=file_format, subtype=subtype)
    return buffer.getvalue()


def sha256(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def loader(files: Mapping[str, bytes]) -> AssetLoader:
    """A loader of WAV files held in memory, by their hash."""

    def load(sha: str, rate_hz: int) -> Audio:
        if sha not in files:
            raise NotFound(f"there is no asset {sha[:12]}…")
        return read_at(files[sha], "held.wav", rate_hz)

    return load


def plain_stack(**changes: object) -> Stack:
    """Two bars with nothing on: no kick, no duck, no limiter."""
    given: dict[str, object] = {
        "name": "Test piece",
        "tempo_bpm": 120.0,
        "bars": 1,
        "bus": Bus(limiter=Limiter(on=False)),
        "duckers": (),
        "pattern": tuple(Note(start_beats=b, length_beats=0.9, pitch=33 + 2 * b) for b in range(4)),
    }
    return Stack.model_validate({**given, **changes})


def path_of(*treatments: Treatment, eq: tuple[Point, ...] = ()) -> tuple[AnyStep, ...]:
    """The path of a layer: the split, treatments, and an EQ called 'eq'."""
    return layer_path(*treatments, Equaliser(id="eq", points=eq))


def points_in(stack: Stack, owner: str) -> tuple[Point, ...]:
    """The points of all EQs of a part, as they stand in the document."""
    return tuple(point for eq in stack.eqs_of(owner).values() for point in eq.points)


def split_take(
    take: Audio, rate_hz: int, frequencies_hz: tuple[float, ...], slope: int, *, spans: tuple[tuple[int, int], ...] = ()
) -> tuple[Stack, AssetLoader]:
    """A stack that cuts one take into bands, nothing else active; and the loader of its asset."""
    content = wav(take, rate_hz)
    sha = sha256(content)
    spans = spans or tuple((band, band) for band in range(len(frequencies_hz) + 1))
    sources = [TakeSource(asset=sha, file_name="take.wav"), *[LayerSound(layer="part-0")] * (len(spans) - 1)]
    layers = tuple(
        Layer(id=f"part-{index}", name=f"part {index}", source=source, span=Span(first=first, last=last))
        for index, (source, (first, last)) in enumerate(zip(sources, spans, strict=True))
    )
    crossovers = tuple(Crossover(frequency_hz=f, slope_db_per_octave=slope) for f in frequencies_hz)
    return plain_stack(layers=layers, crossovers=crossovers, sample_rate=rate_hz, pattern=()), loader({sha: content})


def graph_of(
    stack: Stack, load: AssetLoader | None = None, *, looped: bool = True, audition: Audition = WHOLE
) -> Graph:
    """The graph of a stack on its own clock."""
    return build(stack, clock_of(stack, looped=looped), load or loader({}), audition)


def rendered(
    stack: Stack, load: AssetLoader | None = None, *, looped: bool = True, audition: Audition = WHOLE
) -> dict[str, Audio]:
    """Every layer after the duck by its id, and 'bus_input', 'bass', 'kick', 'output'."""
    graph = graph_of(stack, load, looped=looped, audition=audition)
    wanted = {**graph.layers, **{name: getattr(graph, name) for name in ("bus_input", "bass", "kick", "output")}}
    return dict(zip(wanted, ENGINE.run(list(wanted.values())), strict=True))


def without_ids(part: Any) -> Any:
    """A part of a document as plain values, without the ids by which its parts are told apart and pointed at."""
    if isinstance(part, BaseModel):
        return without_ids(part.model_dump())
    if isinstance(part, dict):
        return {name: without_ids(value) for name, value in part.items() if name not in ("id", "wave", "place")}
    return [without_ids(each) for each in part] if isinstance(part, list | tuple) else part


def spectrum_db(audio: Audio) -> np.ndarray:
    """Level per bin of the first channel under a flat window, relative to the strongest bin."""
    power = np.abs(np.fft.rfft(audio[0].astype(np.float64))) ** 2
    return 10 * np.log10(power / power.max() + 1e-30)


class TemporaryWorkspace:
    """A workspace in a folder that goes away with it."""

    def __enter__(self) -> Workspace:
        self._folder = tempfile.TemporaryDirectory()
        self.path = Path(self._folder.name)
        self.workspace = Workspace(self.path / "data")
        return self.workspace

    def __exit__(self, *_: object) -> None:
        self.workspace.close()
        self._folder.cleanup()
