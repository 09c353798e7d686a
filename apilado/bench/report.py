"""apilado bench: speed as ratios within one run, since absolute times say little on a shared machine."""

from __future__ import annotations

import json
import platform
import resource
import subprocess
import sys
from typing import TextIO

import numba
import numpy as np
import scipy

from apilado import __version__
from apilado.bench.hearing import BARS, figures
from apilado.bench.reference import reference_stack, section_counts
from apilado.bench.sources import talking_stack
from apilado.bench.timing import ROUNDS, median_seconds
from apilado.bench.treatments import denormal_ratios, treatment_ratios
from apilado.core.assets import no_assets
from apilado.core.clock import Clock
from apilado.core.document.editing import Edit
from apilado.core.document.edits import apply
from apilado.core.document.edits_borders import MoveCrossover
from apilado.core.document.edits_values import SetValue
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, knots
from apilado.core.render.engine import Engine
from apilado.core.render.graph import build, clock_of
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.soft_clip import SoftClip

GOALS = {"library": 1.0, "edit": 0.15, "measuring": 0.5, "rows": 1.2, "moving": 2.0, "denormal": 3.0, "source": 0.5}
EDITS: tuple[tuple[str, Edit], ...] = (
    ("an EQ gain of one layer", SetValue(path="layers/middle/path/eq/points/cut/gain_db", value=-5.0)),
    ("a crossover", MoveCrossover(crossover="lower", frequency_hz=125.0)),
    ("the duck's release", SetValue(path="duckers/duck/shape/release_ms", value=75.0)),
)


def render(stack: Stack, engine: Engine) -> Audio:
    """The whole loop."""
    audio: Audio = engine.run([build(stack, clock_of(stack, looped=True), no_assets).output])[0]
    return audio


def library_seconds(stack: Stack) -> tuple[float, float] | None:
    """(with the drives at 4×, with them at the base rate): the same count of filters, drives and compressors in
    `pedalboard`, on buffers of the same length. None where it is not installed."""
    try:
        import pedalboard
        from pedalboard.io import StreamResampler
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

    def drive(sound: Audio, factor: int) -> Audio:
        if factor == 1:
            return pedalboard.Distortion(9.0)(sound, rate)
        up = StreamResampler(rate, rate * factor, 2)
        high = np.concatenate([up.process(sound), up.process(None)], axis=1)
        down = StreamResampler(rate * factor, rate, 2)
        shaped = pedalboard.Distortion(9.0)(high, rate * factor)
        return np.concatenate([down.process(shaped), down.process(None)], axis=1)[:, :frames]

    def run(factor: int) -> None:
        total = np.zeros_like(audio)
        for filters, compressor in chains:
            sound = compressor(drive(filters(audio, rate), factor), rate)
            ducked = pedalboard.Compressor(-24.0, 4.0, 0.5, 60.0)(sound, rate)
            total[:, : ducked.shape[1]] += ducked
        pedalboard.Pedalboard([pedalboard.PeakFilter(28.0, -3.0, 0.7), pedalboard.Limiter(-3.0)])(total, rate)

    return (median_seconds(lambda: 4, run), median_seconds(lambda: 1, run))


def curve_ratios() -> dict[str, float]:
    """What it costs that values may move: treatments with a value on a curve, at rest and moving, against numbers."""
    clock = Clock(tempo_bpm=120.0, beats=32.0, rate_hz=48000, looped=True)
    audio = (0.3 * np.random.default_rng(1).standard_normal((2, clock.frames))).astype(np.float32)
    at = knots(clock.frames)
    rest, sweep = np.zeros(at.shape[0]), 6.0 * np.sin(2.0 * np.pi * at / 12000.0)
    found = {}
    for part, name in ((Compressor(), "threshold_db"), (SoftClip(), "drive_db")):
        plain = median_seconds(lambda: None, lambda _, p=part: p.process(audio, clock))
        for moves, way in ((rest, "at rest"), (sweep, "moving")):
            moved = part.model_copy(update={name: Curve(at, getattr(part, name) + moves)})
            taken = median_seconds(lambda: None, lambda _, p=moved: p.process(audio, clock))
            found[f"{part.label.lower()}, {way}"] = taken / plain
    return found


def peak_mib(bars: int) -> float:
    """The most memory a process of its own needs to render a reference stack of so many bars."""
    command = [sys.executable, "-c", f"from apilado.bench.report import print_peak; print_peak({bars})"]
    return float(json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout))


def print_peak(bars: int) -> None:
    """Renders and prints this process's peak memory in MiB."""
    render(reference_stack(bars), Engine())
    print(json.dumps(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0))


def run(out: TextIO) -> int:
    """Measures and prints everything; the goals are printed beside the ratios."""

    def say(text: str) -> None:
        print(text, file=out, flush=True)

    def ratio(name: str, value: float, goal: float) -> None:
        say(f"  {name:<46} {value:6.2f}   goal at most {goal:.2f}{'' if value <= goal else '   not met'}")

    stack = reference_stack()
    say(f"Apilado {__version__} on {platform.machine()}, {platform.processor() or 'processor unnamed'}")
    versions = f"Python {platform.python_version()}, NumPy {np.__version__}, SciPy {scipy.__version__}"
    say(f"{versions}, Numba {numba.__version__}; medians of {ROUNDS} rounds")
    threads: dict[str, int | None] = {"one thread": 1, "all threads": None}
    cold = {
        name: median_seconds(lambda n=n: Engine(threads=n), lambda e: render(stack, e)) for name, n in threads.items()
    }
    say(f"Cold render of the reference stack (8 bars, 3 layers): {1000 * cold['one thread']:.0f} ms on one thread")
    library = library_seconds(stack)
    if library is None:
        say("  against the effects library: 'pedalboard' is not installed (make test installs it)")
    else:
        ratio("against the library, drives at 4×, one thread", cold["one thread"] / library[0], GOALS["library"])
        ratio("against the library, drives at 4×, all threads", cold["all threads"] / library[0], GOALS["library"])
        ratio("against the library, drives at 1×, one thread", cold["one thread"] / library[1], GOALS["library"])
        say("Each treatment against the library's nearest, 16 s of stereo noise, at the base rate")
        for name, value in (treatment_ratios() or {}).items():
            ratio(name, value, GOALS["library"])
    say("Each treatment on a sound that has all but died away against the same at a level, 4 s of stereo noise")
    for name, value in denormal_ratios().items():
        ratio(name, value, GOALS["denormal"])
    say("One edit against the cold render, all threads")
    for name, edit in EDITS:
        edited = apply(stack, edit)

        def warm() -> Engine:
            engine = Engine()
            render(stack, engine)
            return engine

        taken = median_seconds(warm, lambda e, s=edited: render(s, e))
        ratio(name, taken / cold["all threads"], GOALS["edit"])
    say("Values on curves against numbers, 16 s of stereo noise, one thread")
    for name, value in curve_ratios().items():
        ratio(name, value, GOALS["rows"] if name.endswith("at rest") else GOALS["moving"])
    say("Sources against the cold render, one thread")
    talking = talking_stack()
    taken = median_seconds(lambda: Engine(threads=1), lambda e: render(talking, e))
    ratio("six waves that modulate, two moving filters", taken / cold["one thread"], GOALS["source"])
    say("Measuring against rendering, all threads")

    def rendered() -> Engine:
        engine = Engine()
        render(stack, engine)
        return engine

    measuring = median_seconds(rendered, lambda e: sound(measure(stack, no_assets, e)))
    ratio("all measurements and soundings", measuring / cold["all threads"], GOALS["measuring"])
    say("Hearing an edit on a heavy stack of six layers, all threads: its stretch, and the loop behind it")
    for found in map(figures, BARS):
        per_second = 1000.0 * found.cold_s / found.loop_s
        say(
            f"  {found.bars} bars, {found.loop_s:.0f} s: cold {found.cold_s:.1f} s ({per_second:.0f} ms a second), "
            f"measuring {found.measuring_s:.1f} s, peak {found.peak_mib:.0f} MiB"
        )
        for kind, seconds in found.stretches_s.items():
            say(f"    {kind:<14} {1000 * seconds:6.0f} ms, loop {1000 * found.loops_s[kind]:6.0f} ms")
    say(f"Peak memory of a process that renders 16 bars: {peak_mib(16):.0f} MiB, the cache of 512 MiB included")
    return 0
