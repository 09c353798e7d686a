"""Carve pairs: a dip here and a lift there that move as one; and what a stack's balance is judged by."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from apilado.core.assets import SHA256_PATTERN
from apilado.core.document.equaliser import Bell
from apilado.core.parameters import Model, number, switch, text
from apilado.core.parts import Part

EQ_PATTERN = r"^((bus|layers/[a-z0-9-]+)/path/[a-z0-9-]+|(kick|triggers/[a-z0-9-]+)/eq)$"
MOST_PAIRS = 16
TargetName = Literal["clean lower mids", "thick lower mids", "flat", "finished piece"]
FROM_PIECE: TargetName = "finished piece"


class CarvePair(Part):
    """One place in the spectrum that one part gives up and another takes."""

    on: Annotated[bool, switch(label="On")] = True
    dip: str = Field(pattern=EQ_PATTERN, description="The EQ that dips: bus/path/ID, layers/ID/path/ID or kick/eq")
    lift: str = Field(pattern=EQ_PATTERN, description="The EQ that lifts")
    frequency_hz: Annotated[
        float, number(low=20.0, high=20000.0, step=0.1, scale="log", unit="Hz", label="Frequency")
    ] = 110.0
    dip_db: Annotated[float, number(low=0.0, high=18.0, step=0.1, unit="dB", label="Dip")] = 3.0
    lift_db: Annotated[float, number(low=0.0, high=18.0, step=0.1, unit="dB", label="Lift")] = 1.5
    q: Annotated[float, number(low=0.1, high=20.0, scale="log", label="Q")] = 1.0

    def point_for(self, eq: str) -> Bell | None:
        """The point that it adds to the EQ at an address."""
        if not self.on or eq not in (self.dip, self.lift):
            return None
        gain = -self.dip_db if eq == self.dip else self.lift_db
        return Bell(frequency_hz=self.frequency_hz, gain_db=gain, q=self.q)


class Reference(Model):
    """A finished piece of music to compare with: its balance, and by ear, in the loop's place."""

    asset: str = Field(pattern=SHA256_PATTERN, description="SHA-256 of the audio file")
    file_name: Annotated[str, text(label="File", longest=200)] = "piece.wav"
    from_s: Annotated[
        float,
        number(
            low=0.0,
            high=600.0,
            step=0.1,
            unit="s",
            over="file",
            label="Heard from",
            help="Where it begins when it is heard",
        ),
    ] = 0.0
