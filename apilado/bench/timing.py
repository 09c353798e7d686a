"""Times as medians: single ones say little on a shared machine."""

from __future__ import annotations

import re
import resource
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from apilado.core.assets import AssetLoader, no_assets
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.render.engine import Engine
from apilado.core.render.graph import build, clock_of
from apilado.core.sources.voicing import RUNS

ROUNDS = 5


def median_seconds(prepare: Callable[[], Any], work: Callable[[Any], object], rounds: int = ROUNDS) -> float:
    """The median time of `work` over several rounds, each on what `prepare` gives; one round goes unmeasured."""
    times = []
    for number in range(rounds + 1):
        prepared = prepare()
        began = time.perf_counter()
        work(prepared)
        if number:
            times.append(time.perf_counter() - began)
    return float(np.median(times))


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
