"""Treatment: a copy so little late that it combs, and the teeth sweep."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from apilado.core.dsp.curves import Value
from apilado.core.parameters import number
from apilado.core.treatments.swept_delay import SweptDelay


class Flanger(SweptDelay):
    """One copy on each side, late by a very short line that swings, fed back."""

    label: ClassVar[str] = "Flanger"
    explains: ClassVar[str] = "A copy a moment late, fed back: a comb that sweeps up and down the spectrum"

    kind: Literal["flanger"] = "flanger"
    delay_ms: Annotated[Value, number(low=0.1, high=15.0, step=0.01, unit="ms", label="Delay", moves=True)] = 2.0
    depth_ms: Annotated[
        Value, number(low=0.0, high=10.0, step=0.01, unit="ms", label="Depth", help="Longer and shorter", moves=True)
    ] = 1.5
    feedback: Annotated[
        Value,
        number(low=-0.95, high=0.95, label="Feedback", help="Below nothing its teeth lie between", moves=True),
    ] = 0.5
