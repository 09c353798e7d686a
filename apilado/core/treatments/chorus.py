"""Treatment: copies that are a little late, and never equally."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from apilado.core.dsp.curves import Value
from apilado.core.parameters import choice, number
from apilado.core.treatments.swept_delay import SweptDelay


class Chorus(SweptDelay):
    """One to four copies of a sound on each side, each late by a line that swings."""

    label: ClassVar[str] = "Chorus"
    explains: ClassVar[str] = "Late copies that sway against each other: thicker, and wide; mono below a border"
    leading: ClassVar[tuple[str, ...]] = ("voices", *SweptDelay.leading)

    kind: Literal["chorus"] = "chorus"
    voices: Annotated[Literal[1, 2, 3, 4], choice(label="Copies", help="On each side")] = 2
    delay_ms: Annotated[Value, number(low=1.0, high=50.0, step=0.1, unit="ms", label="Delay", moves=True)] = 12.0
    depth_ms: Annotated[
        Value, number(low=0.0, high=20.0, step=0.01, unit="ms", label="Depth", help="Longer and shorter", moves=True)
    ] = 1.5

    def copies(self) -> int:
        return self.voices
