"""Times by turns, the least of several rounds: single ones say little on a shared machine."""

from __future__ import annotations

import re
import resource
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from apilado.core.assets import AssetLoader, no_assets
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.render.engine import Engine
from apilado.core.render.graph import build, clock_of
from apilado.core.sources.voicing import RUNS

ROUNDS = 7


class Side(NamedTuple):
    """One of several whose times are set against each other: its work, on what is prepared unmeasured each round."""

    work: Callable[[Any], object]
    prepare: Callable[[], Any] = lambda: None


def least_seconds(*sides: Side, rounds: int = ROUNDS) -> list[float]:
    """The least time of each side over several rounds, in each of which all have their turn; one round goes unmeasured.

    What else runs on a machine only ever makes a time longer, for one side as for the other.
    """
    times = np.empty((rounds + 1, len(sides)))
    for taken in times:
        for number, side in enumerate(sides):
            prepared = side.prepare()
            began = time.perf_counter()
            side.work(prepared)
            taken[number] = time.perf_counter() - began
    return [float(least) for least in times[1:].min(axis=0)]


def peak_mib() -> float:
    """The most memory that this process has held.

    Where the system tells it of the program that runs now: `getrusage` begins with what the process was that it was
    split off from.
    """
    told = Path("/proc/self/status")
    if told.exists():
        found = re.search(r"VmHWM:\s+(\d+) kB", told.read_text())
        if found:
            return int(found[1]) / 1024.0
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0


def cold_engine(threads: int | None = None) -> Engine:
    """An engine that has rendered nothing, where no note has been played before."""
    RUNS.clear()
    return Engine(threads=threads)


def rendered(stack: Stack, engine: Engine, load: AssetLoader = no_assets) -> Audio:
    """The whole loop."""
    audio: Audio = engine.run([build(stack, clock_of(stack, looped=True), load).output])[0]
    return audio


def rendered_anew(stack: Stack, engine: Engine, load: AssetLoader = no_assets) -> Audio:
    """The whole loop of a stack that has never been seen: its graph is made too, which `build` else remembers."""
    return rendered(stack.model_copy(), engine, load)
