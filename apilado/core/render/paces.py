"""How long stages take for each frame, as far as this process has seen: what is dear is begun in time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from apilado.core.render.stage import Stage

USUAL_NS = 5.0
"""What has never run is taken for this: as long as two channels through a filter or two."""
SHORTEST = 4096
"""Frames: of less, most of the time is not for the frames."""
SHARE = 0.25
"""Of what was seen last in what is expected."""

_seen: dict[tuple[Callable[..., Any], type | None], float] = {}


def _kind(stage: Stage) -> tuple[Callable[..., Any], type | None]:
    """What takes the same for each frame: the same function, of a treatment of the same kind."""
    treatment = stage.parameters.get("treatment")
    return stage.parameters.get("run", stage.function), None if treatment is None else type(treatment)


def took(stage: Stage, frames: int, seconds: float) -> None:
    """A stage took so many seconds for so many frames."""
    if frames >= SHORTEST:
        kind, pace = _kind(stage), 1e9 * seconds / frames
        before = _seen.get(kind, pace)
        _seen[kind] = before + SHARE * (pace - before)


def expected_ns(stage: Stage, frames: int) -> float:
    """How long a stage will take for so many frames."""
    return frames * _seen.get(_kind(stage), USUAL_NS)
