"""The loops that take most of a render, each beside the least that this machine could do it in.

The least is the largest of four: the numbers it has to multiply and add, the bytes that come and go, the steps of which
each waits for the one before, and the points that are read in tables; each at a rate that is measured here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.bench.figures import Figure
from apilado.bench.timing import Side, least_seconds
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.cycles import Cycle, cycle_table
from apilado.core.dsp.dynamics import Detector, gain_reduction, reduced
from apilado.core.dsp.equaliser import bell
from apilado.core.dsp.filters import run_sections
from apilado.core.dsp.kernels import free_kernel, kernel
from apilado.core.dsp.modulation import add_pushed
from apilado.core.dsp.oscillators import MovingTone, add_tone, copies_at
from apilado.core.dsp.oversampling import phase_filters, run_down, run_up
from apilado.core.dsp.rooms import LINES, Room, in_room
from apilado.core.dsp.sampling import CROSSINGS, CUTOFF, read_at_places
from apilado.core.dsp.shapers import soft_clip_between
from apilado.core.render.cores import Keeping, cores

RATE_HZ, FRAMES = 48000, 1 << 17
COPIES = 7
FEW, TIMES = 1024, 400
"""Numbers that stay in the nearest cache, and how often they are gone through."""


@free_kernel
def _multiplied(x: Any, y: Any, times: int) -> None:
    for _ in range(times):
        for i in range(x.shape[0]):
            v = y[i]
            v = v * x[i] + x[i]
            v = v * x[i] + x[i]
            v = v * x[i] + x[i]
            v = v * x[i] + x[i]
            y[i] = v


@kernel
def _waiting(x: float, y: float, times: int) -> float:
    for _ in range(times):
        y = y * x + x
    return y


@kernel
def _looked_up(table: Any, step: Any, times: int) -> float:
    a, b, c, d, place = np.float32(0.0), np.float32(0.0), np.float32(0.0), np.float32(0.0), np.uint64(0)
    last = np.uint64(table.shape[0] - 5)
    for _ in range(times):
        place = (place + step) & last
        a += table[place]
        b += table[place + np.uint64(1)]
        c += table[place + np.uint64(2)]
        d += table[place + np.uint64(3)]
    return float(a + b + c + d)


@dataclass(frozen=True)
class Machine:
    """What this machine does at best, in nanoseconds each, one thread."""

    operation: float
    """One product or sum of 32 bits, many at a time."""
    byte: float
    """There or back, of arrays as long as those that are measured."""
    step: float
    """A product and a sum that wait for the one before."""
    read: float
    """From a table of 64 KiB, at places that follow one another closely."""


def machine() -> Machine:
    """Measures it."""
    few, out = np.full(FEW, 0.999, np.float32), np.zeros(FEW, np.float32)
    far, there = np.zeros(2 * FRAMES, np.float32), np.ones(2 * FRAMES, np.float32)
    table = np.zeros((1 << 14) + 4, np.float32)
    many = FEW * TIMES
    return Machine(
        operation=_nanoseconds(lambda: _multiplied(few, out, TIMES)) / (8 * many),
        byte=_nanoseconds(lambda: np.copyto(far, there)) / (2 * far.nbytes),
        step=_nanoseconds(lambda: _waiting(0.999, 0.0, many)) / many,
        read=_nanoseconds(lambda: _looked_up(table, np.uint64(7), many)) / (4 * many),
    )


def two_threads() -> float:
    """How much more two threads get done than one where they share nothing: products and sums in the nearest cache."""
    few, outs = np.full(FEW, 0.999, np.float32), [np.zeros(FEW, np.float32) for _ in range(2)]

    def work(out: Audio) -> None:
        _multiplied(few, out, 20 * TIMES)

    with ThreadPoolExecutor(2, initializer=Keeping(cores()).take) as pool:
        alone, together = least_seconds(Side(lambda _: work(outs[0])), Side(lambda _: list(pool.map(work, outs))))
    return 2.0 * alone / together


def _nanoseconds(work: Callable[[], object]) -> float:
    return 1e9 * least_seconds(Side(lambda _: work()))[0]


@dataclass(frozen=True)
class Loop:
    """One of them, and what it has to do for each unit."""

    name: str
    run: Callable[[], object]
    units: int
    operations: float = 0.0
    bytes: float = 0.0
    steps: float = 0.0
    reads: float = 0.0

    def least(self, on: Machine) -> float:
        """Nanoseconds for each unit on a machine at best."""
        return max(self.operations * on.operation, self.bytes * on.byte, self.steps * on.step, self.reads * on.read)


def loops() -> list[Loop]:
    """Those that take most of a cold render of the reference and the heavy stack."""
    noise: Audio = (0.3 * np.random.default_rng(1).standard_normal((2, FRAMES))).astype(np.float32)
    mono, out, one = noise[0], np.zeros_like(noise), np.ones(FRAMES, np.float32)
    return [*_waves(mono, out, one), *_drives(noise), *_others(noise, out)]


def _waves(mono: NDArray[np.float32], out: Audio, one: NDArray[np.float32]) -> list[Loop]:
    copies = copies_at([(0.1 * n, 1.0 + 0.001 * n, 0.2 * n - 0.6) for n in range(COPIES)])
    table = cycle_table(Cycle("saw"), 200)
    gliding = MovingTone(Cycle("saw"), np.linspace(80.0, 160.0, FRAMES), RATE_HZ)
    pieces, at_rest = [(0, FRAMES, table[None].copy())], np.zeros(1)

    def steady() -> None:
        add_tone(out, table, copies, frequency_hz=80.0, rate_hz=RATE_HZ, gain=one)

    def pushed() -> None:
        given: dict[str, Any] = {"steps": np.full(1, 0.002), "pushes": 0.1 * mono, "feedback": at_rest}
        add_pushed(out, pieces, phase=0.0, pan=0.0, gain=one, **given)

    every, glides = COPIES * FRAMES, partial(gliding.add, out, copies, gain=one)
    return [
        Loop("steady wave, each copy and frame", steady, every, operations=10.0, bytes=2.0, reads=2.0),
        Loop("gliding wave, each copy and frame", glides, every, operations=24.0, bytes=4.0, reads=4.0),
        Loop("pushed wave, each frame", pushed, FRAMES, operations=16.0, bytes=24.0, steps=1.0, reads=2.0),
    ]


def _drives(noise: Audio) -> list[Loop]:
    taps = phase_filters(2)
    count, mono = taps.shape[1], noise[0]
    high = np.zeros((2, FRAMES - count + 1), np.float32)
    low = np.zeros(FRAMES - 2 * count, np.float32)
    each: dict[str, float] = {"operations": 4.0 * count, "bytes": 12.0}
    return [
        Loop("to twice the rate, each sample", lambda: run_up(mono, taps, high), FRAMES, **each),
        Loop("back from twice the rate, each sample", lambda: run_down(high, 0, taps, low), FRAMES, **each),
        Loop("soft clip, each sample at the higher rate", lambda: soft_clip_between(noise, 3.0), noise.size, 12.0, 8.0),
    ]


def _others(noise: Audio, out: Audio) -> list[Loop]:
    sections = np.vstack([bell(300.0 * (n + 1), 3.0, 1.0, RATE_HZ) for n in range(4)])
    detector, asked = Detector(-30.0, 4.0, 6.0, 5.0, 80.0), np.abs(20.0 * noise[0])
    room, places = Room(1.0, 8.0, 0.3), np.arange(FRAMES // 4) * 1.5
    taps = 2.0 * CROSSINGS * 1.5 / CUTOFF

    def resounding() -> None:
        in_room(noise, room, rate_hz=RATE_HZ, looped=False)

    def detected() -> None:
        gain_reduction(noise, detector, rate_hz=RATE_HZ)

    return [
        Loop("filter, each section and sample", lambda: run_sections(noise, sections), 4 * noise.size, 9.0, 2.0, 0.5),
        Loop("detector, each frame", detected, FRAMES, operations=45.0, bytes=12.0, steps=2.0),
        Loop("turning down, each sample", lambda: reduced(noise, asked), noise.size, operations=14.0, bytes=10.0),
        Loop("room, each frame", resounding, FRAMES, operations=12.0 * LINES, bytes=24.0, steps=3.0, reads=LINES),
        Loop(
            "reading a sample, each frame",
            lambda: read_at_places(noise, places, 1.5),
            places.size,
            operations=9.0 * taps,
            bytes=8.0,
            reads=2.0 * taps,
        ),
        Loop("mixing, each sample", lambda: np.add(noise, out, out=out), noise.size, operations=1.0, bytes=12.0),
    ]


def against_the_least(part: str) -> Iterator[Figure]:
    """Nanoseconds of each, and how many times the least that is."""
    here = machine()
    for name, value in vars(here).items():
        yield Figure(part, f"at best: one {name}", value, unit="ns")
    for loop in loops():
        taken = _nanoseconds(loop.run) / loop.units
        yield Figure(part, loop.name, taken, unit="ns")
        yield Figure(part, "  times the least", taken / loop.least(here))
