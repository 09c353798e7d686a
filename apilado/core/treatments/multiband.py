"""Treatment: dynamics in two to four bands."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.banded import LEAST_BANDS, MOST_BANDS, Band, Banded, begun
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.both_ways import LEVEL_HOLD_MS, BothWays, change_both_ways, static_change
from apilado.core.dsp.crossovers import split
from apilado.core.dsp.curves import Value, least, mapped, per_frame
from apilado.core.dsp.dynamics import FORGOTTEN, reduced
from apilado.core.dsp.filters import HEARD_OF_A_TAIL
from apilado.core.dsp.gates import LEVEL_FALL_MS
from apilado.core.parameters import number, parts
from apilado.core.sketch import Sketch, level_inputs, level_sketch
from apilado.core.treatments.base import Treatment, Turning
from apilado.core.units import db_to_gain


class DynamicBand(Band):
    """A band, lifted below one threshold and lowered above another."""

    leading: ClassVar[tuple[str, ...]] = ("below_db", "lifts", "above_db", "lowers", "level_db")

    below_db: Annotated[Value, number(low=-80.0, high=0.0, step=0.1, unit="dB", label="Lift below", moves=True)] = -40.0
    lifts: Annotated[float, number(low=1.0, high=10.0, step=0.1, scale="log", unit=":1", label="Lift by")] = 2.0
    most_lift_db: Annotated[float, number(low=0.0, high=36.0, step=0.1, unit="dB", label="Lift at most")] = 12.0
    above_db: Annotated[
        Value, number(low=-60.0, high=0.0, step=0.1, unit="dB", label="Lower above", moves=True)
    ] = -24.0
    lowers: Annotated[float, number(low=1.0, high=20.0, step=0.1, scale="log", unit=":1", label="Lower by")] = 4.0
    attack_ms: Annotated[float, number(low=0.0, high=200.0, step=0.1, unit="ms", label="Attack")] = 8.0
    release_ms: Annotated[float, number(low=5.0, high=1000.0, step=1.0, scale="log", unit="ms", label="Release")] = 80.0
    level_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Level", moves=True)] = 0.0

    def how(self) -> BothWays:
        """What is done to it."""
        lifted = (self.below_db, self.lifts, self.most_lift_db)
        return BothWays(self.above_db, self.lowers, *lifted, self.attack_ms, self.release_ms)

    def in_words(self) -> str:
        lifted = f"{self.lifts:g}:1 below {least(self.below_db):g}"
        return f"{lifted}, {self.lowers:g}:1 above {least(self.above_db):g} dB".replace("-", "−")

    def sketch(self) -> Sketch:
        taken = static_change(level_inputs(), self.how(), least(self.above_db), least(self.below_db))
        return level_sketch(taken, made_up_db=least(self.level_db))


class Multiband(Banded, Treatment):
    """Two to four bands, each with dynamics of its own in both directions; one depth for all."""

    label: ClassVar[str] = "Multiband"
    reduces: ClassVar[bool] = True
    explains: ClassVar[str] = "Two to four bands: what is quiet in one is lifted, what is loud is lowered"
    leading: ClassVar[tuple[str, ...]] = ("depth", "output_db")

    kind: Literal["multiband"] = "multiband"
    depth: Annotated[
        Value, number(low=0.0, high=1.0, label="Depth", help="Of what is lifted and lowered, in all bands", moves=True)
    ] = 0.6
    output_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    bands: tuple[DynamicBand, ...] = parts(
        "band", least=LEAST_BANDS, most=MOST_BANDS, begin=lambda: begun(DynamicBand, 150.0, 2000.0)
    )

    def in_bands(self) -> tuple[DynamicBand, ...]:
        return self.bands

    def in_words(self) -> str:
        return f"{len(self.bands)} bands, depth {100.0 * least(self.depth):.0f} %"

    def _changes(self, audio: Audio, clock: Clock) -> list[tuple[Audio, NDArray[np.float32]]]:
        """(sound, what is taken from it at full depth in dB) of each band."""
        pieces = [split(audio, self.cut(n, clock.rate_hz), looped=clock.looped) for n in range(len(self.bands))]
        return [
            (piece, change_both_ways(piece, band.how(), rate_hz=clock.rate_hz, looped=clock.looped))
            for piece, band in zip(pieces, self.bands, strict=True)
        ]

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        out = np.zeros_like(audio)
        for (piece, change), band in zip(self._changes(audio, clock), self.bands, strict=True):
            gain = per_frame(mapped(band.level_db, db_to_gain))
            out += reduced(piece, change, self.depth) * np.asarray(gain, np.float32)
        return np.asarray(out * np.asarray(per_frame(mapped(self.output_db, db_to_gain)), np.float32))

    def reduction(self, audio: Audio, clock: Clock, key: Audio | None = None) -> NDArray[np.float32]:
        """What it takes from each band in dB, shape (bands, frames); below nothing where it lifts."""
        depth = np.asarray(per_frame(self.depth), np.float32)
        return np.stack([depth * change for _, change in self._changes(audio, clock)])

    def tail_seconds(self, clock: Clock) -> float:
        return self.rings_seconds(clock.rate_hz)

    def memory_seconds(self, clock: Clock) -> float:
        # What a level was is not told by what is taken: all of it is looked back on.
        slowest = max(band.attack_ms + band.release_ms for band in self.bands) + LEVEL_FALL_MS + LEVEL_HOLD_MS
        return HEARD_OF_A_TAIL * self.rings_seconds(clock.rate_hz) + FORGOTTEN * slowest / 1000.0

    def ahead_seconds(self, clock: Clock) -> float:
        return self.rings_seconds(clock.rate_hz) if self.phase == "linear-phase" else 0.0

    def turns_phase(self) -> Turning:
        return "fixed" if self.phase == "minimum-phase" else ""

    def overdone(self) -> Self:
        bands = [band.model_copy(update={"lifts": 10.0, "lowers": 20.0}) for band in self.bands]
        return self.model_copy(update={"depth": 1.0, "bands": tuple(bands)})
