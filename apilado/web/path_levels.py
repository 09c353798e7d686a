"""What is measured along a path: the level behind each of its steps, what takes gain, and where a moved value is."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.document.addresses import find, joined, within
from apilado.core.document.declarations import parameter_at
from apilado.core.document.layer import Layer
from apilado.core.dsp.curves import Curve
from apilado.core.measure.stem import power_of
from apilado.core.render.builder import Builder
from apilado.core.render.stage import Stage, stage
from apilado.core.soundings.measures import Measures
from apilado.core.units import power_to_db
from apilado.web.sheets.movements import movements_of
from apilado.web.sheets.reach import Reach

THICKEST, THICKNESS_SPAN_DB = 7, 54.0
"""The plumb line is as many pixels thick at full scale, and one pixel so far below it."""
SILENT_DB = -90.0
SMALLEST_LIFT_DB = 0.05
PARTS_PER_BEAT, MOST_PARTS = 32, 2048


def sounds_along(measures: Measures, owner: str) -> dict[str, Stage]:
    """The sound behind each line of the path of a layer or a bus, by the address of the line."""
    graph = measures.graph
    found = {path: passed.after for path, passed in graph.passed.items() if within(path, owner)}
    layer = find(measures.stack, owner)
    if isinstance(layer, Layer):
        if layer.id not in graph.frozen:
            found[joined(owner, "source")] = graph.sources[layer.id]
        found[joined(owner, "place")] = graph.placed[layer.id]
        found[joined(owner, "duck")] = graph.layers[layer.id]
    return found


def reductions_along(measures: Measures, owner: str) -> dict[str, NDArray[np.float32]]:
    """What takes gain along a path, in dB frame by frame, by the address of its line."""
    wanted = {
        path: passed.reduction
        for path, passed in measures.graph.passed.items()
        if passed.reduction is not None and within(path, owner)
    }
    found = dict(zip(wanted, measures.run_all(list(wanted.values())), strict=True))
    layer = find(measures.stack, owner)
    if isinstance(layer, Layer) and measures.reductions:
        # Ducks of a band take nothing from the rest of the layer: they are not added to what is taken from all of it.
        whole = {each.id: each.amount(layer.id) for each in measures.stack.duckers if each.band_hz() is None}
        found[joined(owner, "duck")] = sum(
            (each * np.float32(whole[name]) for name, each in measures.reductions.items() if name in whole),
            start=np.zeros(measures.clock.frames, np.float32),
        )
    return {path: each for path, each in found.items() if each is not None}


def path_levels(measures: Measures, owner: str) -> tuple[dict[str, str], dict[str, Any]]:
    """(what is written in the lines of a path, what is drawn there)."""
    sounds = sounds_along(measures, owner)
    powers = measures.run_all([stage(power_of, each) for each in sounds.values()])
    texts, drawn = {}, dict[str, Any]()
    for path, power in zip(sounds, powers, strict=True):
        level = float(power_to_db(power))
        texts[f"level {path}"] = "silent" if level < SILENT_DB else f"{level:.1f}".replace("-", "−")
        drawn[path] = {"thick": thickness(level)}
    for path, reduction in reductions_along(measures, owner).items():
        texts[f"reduction {path}"] = reduction_said(reduction)
        drawn.setdefault(path, {})["reduction"] = in_parts(np.max(np.atleast_2d(reduction), axis=0), _parts(measures))
    return texts, drawn


def reduction_said(reduction: NDArray[np.float32]) -> str:
    """The most that is taken, and the most that is lifted where something is: '↓6.2 ↑3.0'."""
    taken, lifted = float(np.max(reduction, initial=0.0)), -float(np.min(reduction, initial=0.0))
    return f"↓{taken:.1f} ↑{lifted:.1f}" if lifted >= SMALLEST_LIFT_DB else f"↓{taken:.1f}"


def thickness(level_db: float) -> int:
    """How thick the plumb line is at a level, in pixels."""
    return max(1, min(THICKEST, round(1.0 + (THICKEST - 1) * (1.0 + level_db / THICKNESS_SPAN_DB))))


def _parts(measures: Measures) -> int:
    return max(2, min(MOST_PARTS, round(PARTS_PER_BEAT * measures.clock.beats)))


def in_parts(values: NDArray[np.float32], count: int) -> list[float]:
    """The deepest of each of so many parts of a loop, rounded to a tenth."""
    edges = np.linspace(0, values.shape[0], count, endpoint=False).astype(np.int64)
    return [round(float(each), 1) for each in np.maximum.reduceat(values, edges)]


def moving_shares(reach: Reach, measures: Measures, owner: str) -> dict[str, list[float]]:
    """Where each moved value of a layer, bus or drum is over the loop, as shares of its slider, by its address."""
    stack = reach.stack
    paths = {target.path for each in movements_of(stack, owner) if each.on for target in each.targets}
    if not paths:
        return {}
    moves = Builder(stack, measures.clock, measures.load).moves
    wanted = sorted(paths)
    curves: list[Curve] = measures.run_all([moves.curve(path) for path in wanted])
    at = np.linspace(0, measures.clock.frames, _parts(measures), endpoint=False)
    found = {}
    for path, curve in zip(wanted, curves, strict=True):
        parameter = parameter_at(stack, path)
        if parameter is not None:
            slid = reach.of(path, parameter)
            found[path] = [round(slid.share(float(v)), 3) for v in np.interp(at, curve.at, curve.values)]
    return found
