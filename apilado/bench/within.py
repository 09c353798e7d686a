"""Ratios of the engine against itself: edits, curves, sources, denormal numbers, measuring, against a cold render."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np

from apilado.actions.hearing import length_for
from apilado.bench.figures import Figure
from apilado.bench.hearing import stretch
from apilado.bench.reference import reference_stack
from apilado.bench.sources import played_stacks, talking_stack
from apilado.bench.timing import Side, cold_engine, least_seconds, rendered, rendered_anew
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
from apilado.core.render.graph import build, clock_of
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.soft_clip import SoftClip

EDIT_GOAL, MEASURING_GOAL, REST_GOAL, MOVING_GOAL, DENORMAL_GOAL, TALKING_GOAL = 0.15, 0.25, 1.2, 2.0, 3.0, 0.5
ODD_BPM = 87.0
"""At 120 bpm the length of a loop is a round number, whose spectra are soon taken; at this one it is none."""
EDITS: tuple[tuple[str, Edit], ...] = (
    ("an EQ gain of one layer", SetValue(path="layers/middle/path/eq/points/cut/gain_db", value=-5.0)),
    ("a crossover", MoveCrossover(crossover="lower", frequency_hz=125.0)),
    ("the duck's release", SetValue(path="duckers/duck/shape/release_ms", value=75.0)),
)


def _cold(threads: int | None = None) -> Side:
    return Side(lambda e: rendered_anew(reference_stack(), e), lambda: cold_engine(threads))


def _heard(stack: Stack) -> Engine:
    """An engine that has rendered a stack."""
    engine = cold_engine()
    rendered(stack, engine)
    return engine


def edits(part: str) -> Iterator[Figure]:
    """The stretch that is heard first after one edit, the whole loop behind it, and what is measured anew of it."""
    stack = reference_stack()
    heard, edited = partial(_heard, stack), {name: apply(stack, edit) for name, edit in EDITS}
    cold, *taken = least_seconds(_cold(), *[Side(lambda e, s=s: rendered_anew(s, e), heard) for s in edited.values()])
    for name, each in zip(edited, taken, strict=True):
        yield Figure(part, name, each / cold)  # its goal is that of the stretch, which is heard sooner
    clock = clock_of(stack, looped=True)
    given: dict[str, Any] = {
        "begins": clock.loop_frames // 3,
        "heard": build(stack, clock, no_assets),
        "seconds": length_for(None),
    }
    sides = [Side(lambda e, s=s: stretch(e, s, **given), heard) for s in edited.values()]
    cold, *taken = least_seconds(_cold(), *sides)
    for name, each in zip(edited, taken, strict=True):
        yield Figure(part, f"heard at once after {name}", each / cold, EDIT_GOAL)
    yield from _measuring(part, stack, "")
    yield from _measuring(part, apply(stack, SetValue(path="tempo_bpm", value=ODD_BPM)), f", at {ODD_BPM:g} bpm")


def _measuring(part: str, stack: Stack, told: str) -> Iterator[Figure]:
    """What is measured anew after one edit, and all of it at first, against a cold render of the same stack."""
    edited = {name: apply(stack, edit) for name, edit in EDITS}

    def heard_after(changed: Stack) -> Engine:
        engine = _heard(stack)
        sound(measure(stack, no_assets, engine))
        rendered(changed, engine)
        return engine

    cold, first, *taken = least_seconds(
        Side(lambda e: rendered_anew(stack, e), cold_engine),
        Side(lambda e: sound(measure(stack, no_assets, e)), partial(_heard, stack)),
        *[Side(lambda e, s=s: sound(measure(s, no_assets, e)), lambda s=s: heard_after(s)) for s in edited.values()],
    )
    for name, each in zip(edited, taken, strict=True):
        yield Figure(part, f"measuring after {name}{told}", each / cold, MEASURING_GOAL)
    yield Figure(part, f"measuring all of it for the first time{told}", first / cold)


def curves(part: str) -> Iterator[Figure]:
    """What it costs that values may move: treatments with a value on a curve, at rest and moving, against numbers."""
    clock = Clock(tempo_bpm=120.0, beats=32.0, rate_hz=48000, looped=True)
    audio = (0.3 * np.random.default_rng(1).standard_normal((2, clock.frames))).astype(np.float32)
    at = knots(clock.frames)
    rest, sweep = np.zeros(at.shape[0]), 6.0 * np.sin(2.0 * np.pi * at / 12000.0)
    for step, name in ((Compressor(), "threshold_db"), (SoftClip(), "drive_db")):
        moved = [step.model_copy(update={name: Curve(at, getattr(step, name) + moves)}) for moves in (rest, sweep)]
        sides = [Side(lambda _, p=each: p.process(audio, clock)) for each in (step, *moved)]
        plain, resting, moving = least_seconds(*sides)
        yield Figure(part, f"{step.label.lower()}, at rest", resting / plain, REST_GOAL)
        yield Figure(part, f"{step.label.lower()}, moving", moving / plain, MOVING_GOAL)


def sources(part: str) -> Iterator[Figure]:
    """What sources take, each alone in a stack."""
    talking = talking_stack()
    cold, taken = least_seconds(_cold(1), Side(lambda e: rendered_anew(talking, e), lambda: cold_engine(1)))
    yield Figure(part, "six waves that modulate, two moving filters", taken / cold, TALKING_GOAL)
    for name, (stack, load) in played_stacks().items():
        clock = clock_of(stack, looped=True)
        [taken] = least_seconds(Side(lambda e, s=stack, f=load: rendered_anew(s, e, f), lambda: cold_engine(1)))
        yield Figure(part, f"{name}, for each second of it", 1000.0 * taken * clock.rate_hz / clock.frames, unit="ms")


def denormals(part: str) -> Iterator[Figure]:
    """Each treatment on a sound that has all but died away, against the same at a level."""
    for name, value in denormal_ratios().items():
        yield Figure(part, name, value, DENORMAL_GOAL)
