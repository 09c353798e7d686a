"""The reference stack against the same count of work in a compiled general-purpose effects library.

Like is compared with like: drives at the base rate on both sides, or at 4× on both, there by `soxr`. Sources are ours
alone: they are told with the rest and apart.
"""

from __future__ import annotations

import importlib.util
from collections.abc import Callable, Iterator

import numpy as np
import soxr

from apilado.bench.figures import Figure
from apilado.bench.kernels import two_threads
from apilado.bench.reference import at_oversampling, reference_stack, section_counts
from apilado.bench.timing import Side, cold_engine, least_seconds, rendered_anew
from apilado.bench.treatments import treatment_ratios
from apilado.core.assets import no_assets
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.render.engine import Engine
from apilado.core.render.graph import build, clock_of

WHOLE_GOALS = {1: 0.7, 4: 0.5}
TREATMENT_GOAL, THREADS_GOAL = 1.0, 1.7
MISSING = "'pedalboard' is not installed (make test installs it): nothing is compared with it"


def installed() -> bool:
    """Whether the library is there to be compared with."""
    return importlib.util.find_spec("pedalboard") is not None


def against_the_library(part: str) -> Iterator[Figure]:
    """The whole reference stack, and its processing alone."""
    for factor, goal in WHOLE_GOALS.items():
        stack = at_oversampling(reference_stack(), factor)
        ours = Side(lambda e, s=stack: rendered_anew(s, e), lambda: cold_engine(1))
        behind = Side(lambda e, s=stack: rendered_anew(s, e), lambda s=stack: _with_sources(s))
        theirs = library_side(stack, factor)
        cold, *others = least_seconds(ours, behind, theirs) if theirs else least_seconds(ours)
        yield Figure(part, f"cold render, drives at {factor}×, one thread", 1000.0 * cold, unit="ms")
        if others:
            yield Figure(part, f"all of it, drives at {factor}× on both sides", cold / others[1], goal)
            yield Figure(part, f"without its sources, drives at {factor}×", others[0] / others[1])
    sides = [Side(lambda e: rendered_anew(reference_stack(), e), lambda n=n: cold_engine(n)) for n in (1, 2)]
    one, two = least_seconds(*sides)
    yield Figure(part, "one thread against two", one / two, THREADS_GOAL, at_least=True)
    yield Figure(part, "two threads that share nothing against one, on this machine", two_threads())


def each_treatment(part: str) -> Iterator[Figure]:
    """Each treatment against the library's nearest, at the base rate."""
    for name, value in (treatment_ratios() or {}).items():
        yield Figure(part, name, value, TREATMENT_GOAL)


def _with_sources(stack: Stack) -> Engine:
    """An engine that has rendered the sources of a stack and nothing else."""
    engine = cold_engine(1)
    engine.run(list(build(stack, clock_of(stack, looped=True), no_assets).sources.values()))
    return engine


def library_side(stack: Stack, factor: int) -> Side | None:
    """The same count of filters, drives and compressors in `pedalboard`, on buffers of the same length, its drives at a
    multiple of the rate. None where it is not installed."""
    try:
        import pedalboard
    except ImportError:
        return None
    rate = stack.sample_rate
    frames = clock_of(stack, looped=True).frames
    audio = (0.3 * np.random.default_rng(1).standard_normal((2, frames))).astype(np.float32)
    chains = [
        (
            pedalboard.Pedalboard([pedalboard.PeakFilter(300.0, -3.0, 1.0) for _ in range(count)]),
            pedalboard.Compressor(),
        )
        for count in section_counts(stack)
    ]
    drive = _driven(pedalboard.Distortion(9.0), rate, factor)

    def run(_: object) -> None:
        total = np.zeros_like(audio)
        for filters, compressor in chains:
            sound = compressor(drive(filters(audio, rate)), rate)
            ducked = pedalboard.Compressor(-24.0, 4.0, 0.5, 60.0)(sound, rate)
            total[:, : ducked.shape[1]] += ducked
        pedalboard.Pedalboard([pedalboard.PeakFilter(28.0, -3.0, 0.7), pedalboard.Limiter(-3.0)])(total, rate)

    return Side(run)


def _driven(distortion: Callable[[Audio, int], Audio], rate: int, factor: int) -> Callable[[Audio], Audio]:
    if factor == 1:
        return lambda sound: distortion(sound, rate)

    def drive(sound: Audio) -> Audio:
        high = soxr.resample(sound.T, rate, rate * factor)
        shaped = distortion(np.ascontiguousarray(high.T), rate * factor)
        low = soxr.resample(shaped.T, rate * factor, rate)[: sound.shape[1]]
        return np.ascontiguousarray(low.T)

    return drive
