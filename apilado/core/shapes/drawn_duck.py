"""Duck: a drawn shape that each hit starts."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Curve, Value
from apilado.core.dsp.ducks import SHORTEST_EDGE_MS, drawn_shape, shapes_at
from apilado.core.parameters import choice, number
from apilado.core.shapes.base import DuckShape
from apilado.core.units import beats_to_seconds

SHORTEST_MS, SHORTEST_BEATS = 5.0, 1 / 64


class DrawnDuck(DuckShape):
    """Depth, attack, hold, release and curve; the same at every hit, however loud."""

    label: ClassVar[str] = "Drawn shape"

    kind: Literal["drawn"] = "drawn"
    depth_db: Annotated[Value, number(low=0.0, high=60.0, step=0.1, unit="dB", label="Depth", moves=True)] = 9.0
    attack_ms: Annotated[
        float, number(low=0.0, high=100.0, step=0.1, unit="ms", label="Attack", help="It is down when the hit comes")
    ] = 2.0
    lengths: Annotated[Literal["ms", "beats"], choice(label="Lengths in")] = "ms"
    hold_ms: Annotated[float, number(low=0.0, high=1000.0, step=1.0, unit="ms", label="Hold")] = 40.0
    release_ms: Annotated[float, number(low=5.0, high=2000.0, step=1.0, scale="log", unit="ms", label="Release")] = (
        120.0
    )
    hold_beats: Annotated[float, number(low=0.0, high=4.0, step=1 / 32, unit="beats", label="Hold")] = 1 / 8
    release_beats: Annotated[float, number(low=1 / 64, high=8.0, step=1 / 32, unit="beats", label="Release")] = 1 / 4
    curve: Annotated[
        float, number(low=-1.0, high=1.0, label="Curve", help="Of the release: below 0 back at once, above 0 late")
    ] = 0.0

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing in the unit chosen."""
        return ("hold_beats", "release_beats") if self.lengths == "ms" else ("hold_ms", "release_ms")

    def times_ms(self, tempo_bpm: float) -> tuple[float, float]:
        """Hold and release in milliseconds."""
        if self.lengths == "ms":
            return self.hold_ms, self.release_ms
        hold, release = (1000.0 * beats_to_seconds(b, tempo_bpm) for b in (self.hold_beats, self.release_beats))
        return hold, release

    def reduction(self, key: Audio, starts: tuple[int, ...], clock: Clock) -> NDArray[np.float32]:
        hold, release = self.times_ms(clock.tempo_bpm)
        lead = clock.samples_in_ms(self.attack_ms)
        shape = drawn_shape(
            depth_db=1.0 if isinstance(self.depth_db, Curve) else self.depth_db,
            # Not in no time at all: that clicks.
            attack_frames=max(lead, clock.samples_in_ms(SHORTEST_EDGE_MS)),
            hold_frames=clock.samples_in_ms(hold),
            release_frames=clock.samples_in_ms(release),
            curve=self.curve,
        )
        drawn = shapes_at(shape, starts, clock.frames, looped=clock.looped, lead=lead)
        return drawn * self.depth_db.rounded() if isinstance(self.depth_db, Curve) else drawn

    def lead_ms(self) -> float:
        return self.attack_ms

    def back_ms(self, clock: Clock) -> float:
        return sum(self.times_ms(clock.tempo_bpm))

    def shortened(self, share: float) -> Self | None:
        if self.lengths == "beats":
            release, hold = self.release_beats * share, self.hold_beats * share
            if release < SHORTEST_BEATS:
                return None
            return self.model_copy(update={"release_beats": round(release, 4), "hold_beats": round(hold, 4)})
        release, hold = self.release_ms * share, self.hold_ms * share
        if release < SHORTEST_MS:
            return None
        return self.model_copy(update={"release_ms": round(release, 1), "hold_ms": round(hold, 1)})

    def overdone(self) -> Self:
        return self.model_copy(update={"depth_db": 40.0})
