"""How soon an edit is heard: the stretch and the loop behind it, on a heavy stack that grows from 4 to 64 bars."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

from apilado import memory
from apilado.actions.hearing import first_piece_for, length_for, slower_of
from apilado.bench.figures import Figure
from apilado.bench.reference import heavy_stack
from apilado.bench.timing import peak_mib
from apilado.core.assets import no_assets
from apilado.core.document.editing import Edit
from apilado.core.document.edits import apply
from apilado.core.document.edits_borders import MoveCrossover
from apilado.core.document.edits_pattern import ReplaceNote
from apilado.core.document.edits_values import SetValue
from apilado.core.document.stack import Stack
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import Graph, build, clock_of
from apilado.core.render.last_loop import LastLoop
from apilado.core.render.stretch import stretch_of
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.sources.voicing import RUNS

BARS = (4, 16, 64)
STRETCH_GOAL_MS, LONG_GOAL_MS, PEAK_GOAL_MIB = 65.0, 80.0, 1536.0
"""To be heard: of the first stretch; on a long stack; all memory on a long stack."""
ROUNDS = 5


KINDS = ("EQ", "level", "crossover", "drive", "movement", "a moved note")


def edits_of(stack: Stack, number: int) -> dict[str, Edit]:
    """One edit of each kind; another one for each number."""
    note = stack.pattern[3]
    lower = note.model_copy(update={"pitch": note.pitch + number + 1})
    middle = "layers/layer-2"
    return {
        "EQ": SetValue(path=f"{middle}/path/eq/points/cut/gain_db", value=-5.0 - 0.1 * number),
        "level": SetValue(path=f"{middle}/level_db", value=-12.0 - 0.1 * number),
        "crossover": MoveCrossover(crossover="border-1", frequency_hz=225.0 + number),
        "drive": SetValue(path=f"{middle}/path/clip/drive_db", value=12.0 + 0.1 * number),
        "movement": SetValue(path="movements/sweep/length_beats", value=3.0 + 0.1 * number),
        "a moved note": ReplaceNote(was=note, now=lower),
    }


@dataclass(frozen=True)
class Figures:
    """Of a heavy stack of so many bars, in seconds."""

    bars: int
    loop_s: float
    cold_s: float
    measuring_s: float
    stretches_s: dict[str, float]
    loops_s: dict[str, float]
    peak_mib: float


def hearing(part: str) -> Iterator[Figure]:
    """The first stretch of each kind of edit and the loop behind it, on stacks that grow."""
    for found in map(figures, BARS):
        goal, size = LONG_GOAL_MS if found.bars > 16 else STRETCH_GOAL_MS, f"{found.bars} bars"
        yield Figure(part, f"{size}, {found.loop_s:.0f} s: cold", 1000.0 * found.cold_s, unit="ms")
        yield Figure(part, f"{size}: measuring", 1000.0 * found.measuring_s, unit="ms")
        for kind, seconds in found.stretches_s.items():
            yield Figure(part, f"{size}: {kind}, its stretch", 1000.0 * seconds, goal, unit="ms")
            yield Figure(part, f"{size}: {kind}, the loop", 1000.0 * found.loops_s[kind], unit="ms")
        yield Figure(part, f"{size}: peak memory", found.peak_mib, PEAK_GOAL_MIB, unit="MiB")


def figures(bars: int) -> Figures:
    """Measured in a process of its own."""
    command = [sys.executable, "-c", f"from apilado.bench.hearing import tell; tell({bars})"]
    found = json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)
    return Figures(**found)


def tell(bars: int) -> None:
    """Measures and prints the figures of a heavy stack as JSON."""
    memory.keep_freed()
    stack, engine = heavy_stack(bars), Engine()
    warm = heavy_stack(1)
    for each in (warm, *[apply(warm, edit) for edit in edits_of(warm, 0).values()]):
        _loop(Engine(), each)
    RUNS.clear()
    clock = clock_of(stack, looped=True)
    cold = _seconds(partial(_loop, engine, stack))
    measuring = _seconds(lambda: sound(measure(stack, no_assets, engine)))
    heard = build(stack, clock, no_assets)
    stretches: dict[str, list[float]] = {}
    loops: dict[str, list[float]] = {}
    pace: float | None = None
    # As on the bench: every edit comes on top of the one before, and its loop is rendered before the next.
    for number in range(ROUNDS):
        for kind in KINDS:
            stack = apply(stack, edits_of(stack, number)[kind])
            begins = (number * 100_000) % clock.frames
            seconds = first_piece_for(pace) or length_for(pace)
            took = _seconds(partial(stretch, engine, stack, begins, heard, seconds))
            pace = slower_of(took, pace)
            stretches.setdefault(kind, []).append(took)
            heard = build(stack, clock, no_assets)
            loops.setdefault(kind, []).append(_seconds(partial(_loop, engine, stack)))
    told = {
        "bars": bars,
        "loop_s": clock.frames / clock.rate_hz,
        "cold_s": cold,
        "measuring_s": measuring,
        "stretches_s": {kind: sorted(times)[len(times) // 2] for kind, times in stretches.items()},
        "loops_s": {kind: sorted(times)[len(times) // 2] for kind, times in loops.items()},
        "peak_mib": peak_mib(),
    }
    print(json.dumps(told))


def stretch(engine: Engine, stack: Stack, begins: int, heard: Graph, seconds: float) -> None:
    """Renders what is heard of a stack from a frame on, so many seconds, after the loop of another graph."""
    clock = clock_of(stack, looped=True)
    graph, frames = build(stack, clock, no_assets), round(seconds * clock.rate_hz)
    last = LastLoop(engine, heard, clock)
    known = {"held": last.held, "went_in": last.went_in, "came_out": last.came_out}
    engine.run(stretch_of([graph.output], clock, begins, frames, engine.holds, **known), Token(), soon=True)


def _loop(engine: Engine, stack: Stack) -> None:
    engine.run([build(stack, clock_of(stack, looped=True), no_assets).output])


def _seconds(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began
