"""Ratios of the engine against itself: edits, curves, sources, denormal numbers, measuring, against a cold render."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from apilado.bench.figures import Figure
from apilado.bench.reference import reference_stack
from apilado.bench.sources import played_stacks, talking_stack
from apilado.bench.timing import cold_engine, median_seconds, rendered
from apilado.bench.treatments import denormal_ratios
from apilado.core.assets import no_assets
from apilado.core.clock import Clock
from apilado.core.document.editing import Edit
from apilado.core.document.edits import apply
from apilado.core.document.edits_borders import MoveCrossover
from apilado.core.document.edits_values import SetValue
from apilado.core.document.stack import Stack
from apilado.core.dsp.curves import Curve, knots
from apilado.core.render.engine import Engine
from apilado.core.render.graph import clock_of
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.soft_clip import SoftClip

EDIT_GOAL, MEASURING_GOAL, REST_GOAL, MOVING_GOAL, DENORMAL_GOAL, TALKING_GOAL = 0.15, 0.25, 1.2, 2.0, 3.0, 0.5
EDITS: tuple[tuple[str, Edit], ...] = (
    ("an EQ gain of one layer", SetValue(path="layers/middle/path/eq/points/cut/gain_db", value=-5.0)),
    ("a crossover", MoveCrossover(crossover="lower", frequency_hz=125.0)),
    ("the duck's release", SetValue(path="duckers/duck/shape/release_ms", value=75.0)),
)


def _cold(threads: int | None = None) -> float:
    return median_seconds(lambda: cold_engine(threads), lambda e: rendered(reference_stack(), e))


def edits(part: str) -> Iterator[Figure]:
    """The whole loop after one edit, and what is measured anew of it."""
    stack, cold = reference_stack(), _cold()

    def heard() -> Engine:
        engine = cold_engine()
        rendered(stack, engine)
        return engine

    def known() -> Engine:
        engine = heard()
        sound(measure(stack, no_assets, engine))
        return engine

    def heard_after(edited: Stack) -> Engine:
        engine = known()
        rendered(edited, engine)
        return engine

    for name, edit in EDITS:
        edited = apply(stack, edit)
        taken = median_seconds(heard, lambda e, s=edited: rendered(s, e))
        yield Figure(part, name, taken / cold, EDIT_GOAL)
    for name, edit in EDITS:
        edited = apply(stack, edit)
        taken = median_seconds(
            lambda s=edited: heard_after(s), lambda e, s=edited: sound(measure(s, no_assets, e)), rounds=3
        )
        yield Figure(part, f"measuring after {name}", taken / cold, MEASURING_GOAL)
    taken = median_seconds(heard, lambda e: sound(measure(stack, no_assets, e)))
    yield Figure(part, "measuring all of it for the first time", taken / cold)


def curves(part: str) -> Iterator[Figure]:
    """What it costs that values may move: treatments with a value on a curve, at rest and moving, against numbers."""
    clock = Clock(tempo_bpm=120.0, beats=32.0, rate_hz=48000, looped=True)
    audio = (0.3 * np.random.default_rng(1).standard_normal((2, clock.frames))).astype(np.float32)
    at = knots(clock.frames)
    rest, sweep = np.zeros(at.shape[0]), 6.0 * np.sin(2.0 * np.pi * at / 12000.0)
    for step, name in ((Compressor(), "threshold_db"), (SoftClip(), "drive_db")):
        plain = median_seconds(lambda: None, lambda _, p=step: p.process(audio, clock))
        for moves, way, goal in ((rest, "at rest", REST_GOAL), (sweep, "moving", MOVING_GOAL)):
            moved = step.model_copy(update={name: Curve(at, getattr(step, name) + moves)})
            taken = median_seconds(lambda: None, lambda _, p=moved: p.process(audio, clock))
            yield Figure(part, f"{step.label.lower()}, {way}", taken / plain, goal)


def sources(part: str) -> Iterator[Figure]:
    """What sources take, each alone in a stack."""
    cold = _cold(1)
    talking = talking_stack()
    taken = median_seconds(lambda: cold_engine(1), lambda e: rendered(talking, e))
    yield Figure(part, "six waves that modulate, two moving filters", taken / cold, TALKING_GOAL)
    for name, (stack, load) in played_stacks().items():
        clock = clock_of(stack, looped=True)
        taken = median_seconds(lambda: cold_engine(1), lambda e, s=stack, f=load: rendered(s, e, f))
        yield Figure(part, f"{name}, for each second of it", 1000.0 * taken * clock.rate_hz / clock.frames, unit="ms")


def denormals(part: str) -> Iterator[Figure]:
    """Each treatment on a sound that has all but died away, against the same at a level."""
    for name, value in denormal_ratios().items():
        yield Figure(part, name, value, DENORMAL_GOAL)
