"""How time and memory grow with a stack: in a straight line, so that twice as much takes no more than twice as long."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable, Iterator
from typing import cast

import numpy as np

from apilado import memory
from apilado.bench import timing
from apilado.bench.figures import Figure
from apilado.bench.reference import EQ, reference_stack
from apilado.bench.timing import Side, cold_engine, least_seconds, rendered, rendered_anew
from apilado.core.document.equaliser import Bell
from apilado.core.document.layer import Layer
from apilado.core.document.path import Equaliser, layer_path
from apilado.core.document.stack import Stack
from apilado.core.notes import Note
from apilado.core.render.engine import Engine
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice

EXPONENT_GOAL = 1.1
"""Of time against size, as the slope between their logarithms: 1 is a straight line through nothing."""
ROUNDS = 3


def with_layers(count: int) -> Stack:
    """So many layers, all over the whole range, none of which plays as another."""
    stack = reference_stack(4)
    first = stack.layers[0]

    def layer(number: int) -> Layer:
        voice = Voice(envelope=Envelope(sustain=0.7), glide_ms=60.0 + number)
        return first.model_copy(update={"id": f"l{number}", "name": f"l{number}", "voice": voice})

    return stack.model_copy(update={"layers": tuple(map(layer, range(count)))})


def with_copies(count: int) -> Stack:
    """Waves of so many copies."""

    def layer(each: Layer) -> Layer:
        source = cast(ToneSource, each.source)
        tones = tuple(tone.model_copy(update={"copies": count}) for tone in source.tones)
        return each.model_copy(update={"source": source.model_copy(update={"tones": tones})})

    stack = reference_stack(4)
    return stack.model_copy(update={"layers": tuple(map(layer, stack.layers))})


def with_notes(count: int) -> Stack:
    """So many notes in four bars, each of another velocity, so that none is played twice."""
    length = 16.0 / count
    notes = tuple(
        Note(start_beats=n * length, length_beats=0.9 * length, pitch=29 + n * 5 % 12, velocity=1 + n % 127)
        for n in range(count)
    )
    return reference_stack(4).model_copy(update={"pattern": notes})


def with_points(count: int) -> Stack:
    """Layers with EQs of so many points and nothing else behind the split."""
    points = tuple(Bell(id=f"p{n}", frequency_hz=100.0 * (n + 1), gain_db=-1.0) for n in range(count))
    stack = reference_stack(4)
    path = layer_path(Equaliser(id="eq", points=points or EQ[:1]))
    return stack.model_copy(update={"layers": tuple(each.model_copy(update={"path": path}) for each in stack.layers)})


TABLES: tuple[tuple[str, tuple[int, ...], Callable[[int], Stack]], ...] = (
    ("bars", (4, 8, 16, 32), reference_stack),
    ("layers", (2, 4, 8), with_layers),
    ("copies", (2, 4, 8, 16), with_copies),
    ("notes", (16, 32, 64, 128), with_notes),
    ("points", (2, 4, 8, 16), with_points),
)


def exponent(sizes: tuple[int, ...], values: list[float]) -> float:
    """The slope of values against sizes, both by their logarithms."""
    return float(np.polyfit(np.log(sizes), np.log(values), 1)[0])


def growth(part: str) -> Iterator[Figure]:
    """Tables of cold renders, and how steep they are."""
    for name, sizes, stack_of in TABLES:
        stacks = [stack_of(size) for size in sizes]
        sides = [Side(lambda e, s=stack: rendered_anew(s, e), lambda: cold_engine(1)) for stack in stacks]
        times = least_seconds(*sides, rounds=ROUNDS)
        for size, taken in zip(sizes, times, strict=True):
            yield Figure(part, f"{size} {name}", 1000.0 * taken, unit="ms")
        yield Figure(part, f"time against {name}, as a power", exponent(sizes, times), EXPONENT_GOAL)
    sizes = (16, 32, 64)
    peaks = []
    for bars in sizes:
        peaks.append(peak_mib(bars))
        yield Figure(part, f"peak of a process that renders {bars} bars", peaks[-1], unit="MiB")
    yield Figure(part, "memory against bars, as a power", exponent(sizes, peaks), EXPONENT_GOAL)


def peak_mib(bars: int) -> float:
    """The most memory a process of its own needs to render a reference stack of so many bars."""
    return peak_of(f"from apilado.bench.growing import print_peak; print_peak({bars})")


def peak_of(program: str) -> float:
    """What a process of its own prints of its memory."""
    command = [sys.executable, "-c", program]
    return float(json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout))


def print_peak(bars: int) -> None:
    """Renders and prints this process's peak memory in MiB."""
    memory.keep_freed()
    rendered(reference_stack(bars), Engine())
    print(json.dumps(timing.peak_mib()))
