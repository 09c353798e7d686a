"""What a sound goes into at a step, and what comes out."""

from __future__ import annotations

from dataclasses import dataclass

from apilado.core.render.stage import Stage


@dataclass(frozen=True)
class Passed:
    """What a sound went into, and what came out."""

    before: Stage
    after: Stage
    reduction: Stage | None = None
    """Gain reduction in dB, shape (frames,); it gives None where the part has none."""
    measured: Stage | None = None
    """What is measured of it once over the whole loop: the gain by which it keeps its level, or how a chain fits."""
