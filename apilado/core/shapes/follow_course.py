"""Course: the level of a sound."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.parameters import number, reference
from apilado.core.shapes.base import Course
from apilado.core.shapes.opening import opened_by

FOLLOWING_RATIO, FOLLOWING_KNEE_DB = 1e6, 0.1


class FollowCourse(Course):
    """The level of a drum or of a layer: 0 where it is as far under its peak as the range is wide, 1 at its peak.

    A layer is followed as it sounds behind its path, before its place and the ducks; what follows something in it is
    left out.
    """

    label: ClassVar[str] = "Follows a sound"

    kind: Literal["follows"] = "follows"
    trigger: Annotated[str, reference(among="sounds", label="Sound")] = "kick"
    attack_ms: Annotated[float, number(low=0.0, high=500.0, step=0.1, unit="ms", label="Attack")] = 5.0
    release_ms: Annotated[float, number(low=5.0, high=5000.0, step=1.0, scale="log", unit="ms", label="Release")] = (
        120.0
    )
    range_db: Annotated[float, number(low=6.0, high=90.0, step=1.0, unit="dB", label="Range")] = 30.0

    def follows(self) -> str | None:
        return self.trigger

    def in_words(self) -> str:
        return "follows a sound"

    def level(self, key: Audio, clock: Clock) -> NDArray[np.float32]:
        """How far the sound that it follows has risen into its range, 0 to 1 at every frame; its peak is 1."""
        peak = float(np.max(np.abs(key), initial=0.0))
        return opened_by(
            key / np.float32(peak) if peak > 0.0 else key,
            threshold_db=-self.range_db,
            range_db=self.range_db,
            ratio=FOLLOWING_RATIO,
            knee_db=FOLLOWING_KNEE_DB,
            attack_ms=self.attack_ms,
            release_ms=self.release_ms,
            rate_hz=clock.rate_hz,
            looped=clock.looped,
        )
