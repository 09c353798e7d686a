"""Treatment: a transfer curve drawn through points."""

from __future__ import annotations

from functools import partial
from itertools import pairwise
from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.dsp.curves import Value
from apilado.core.dsp.oversampling import Shaper
from apilado.core.dsp.shapers import Table, table_of, tabled, tabled_between
from apilado.core.parameters import number, parts, switch
from apilado.core.parts import Part
from apilado.core.treatments.drive import Drive

MOST_POINTS = 16
TABLE_STEPS = 4096
APART = 1e-6


class CurvePoint(Part):
    """A point of a transfer curve."""

    label: ClassVar[str] = "Curve point"

    input: Annotated[float, number(low=-1.0, high=1.0, step=0.001, label="In", help="1 is full scale")] = 0.5
    output: Annotated[float, number(low=-1.0, high=1.0, step=0.001, label="Out")] = 0.5

    def in_words(self) -> str:
        return f"{self.input:g} comes out as {self.output:g}".replace("-", "−")


def _begin() -> tuple[CurvePoint, ...]:
    places = ((0.15, 0.35), (0.5, 0.8), (1.0, 0.9))
    return tuple(CurvePoint(id=f"p{n}", input=x, output=y) for n, (x, y) in enumerate(places, 1))


class DrawnCurve(Drive):
    """A curve through points, smooth and without overshoot between them; beyond full scale it stays where it ends."""

    label: ClassVar[str] = "Drawn curve"
    explains: ClassVar[str] = "A transfer curve of your own through points; both halves alike, or each its own"
    leading: ClassVar[tuple[str, ...]] = ("drive_db", "odd", "blend", "output_db")

    kind: Literal["drawn-curve"] = "drawn-curve"
    drive_db: Annotated[Value, number(low=0.0, high=36.0, step=0.1, unit="dB", label="Drive", moves=True)] = 0.0
    odd: Annotated[
        bool,
        switch(label="Both halves alike", help="The upper half of the curve, turned over for the lower: odd harmonics"),
    ] = True
    points: tuple[CurvePoint, ...] = parts("curve point", least=1, most=MOST_POINTS, begin=_begin)

    def through(self) -> tuple[tuple[float, float], ...]:
        """(in, out) of what the curve goes through from -1 to 1, ascending; silence stays silence."""
        upper = {p.input: p.output for p in self.points if p.input > 0.0}
        lower = {p.input: p.output for p in self.points if p.input < 0.0}
        if self.odd:
            lower = {-x: -y for x, y in upper.items()}
        found = sorted({**lower, 0.0: 0.0, **upper}.items())
        apart = [found[0], *[after for before, after in pairwise(found) if after[0] - before[0] > APART]]
        # To full scale it goes on level: what is not drawn is not bent further.
        ends = [(-1.0, apart[0][1])] if apart[0][0] > -1.0 + APART else []
        return (*ends, *apart, *([(1.0, apart[-1][1])] if apart[-1][0] < 1.0 - APART else []))

    def curve_points(self) -> tuple[CurvePoint, ...]:
        return self.points

    def table(self) -> Table:
        """The curve at TABLE_STEPS places from -1 to 1, and its integral there."""
        inputs, outputs = np.array(self.through()).T
        from scipy.interpolate import PchipInterpolator  # loaded when it is first asked for

        return table_of(PchipInterpolator(inputs, outputs)(np.linspace(-1.0, 1.0, TABLE_STEPS + 1)))

    def shaper(self, gain: float) -> tuple[Shaper, Shaper | None]:
        table = self.table()
        return partial(tabled, gain=gain, table=table), partial(tabled_between, gain=gain, table=table)
