"""What ring and frequency shift share: a sine of their own, in Hz or going with the notes."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, least
from apilado.core.parameters import number
from apilado.core.treatments.base import Treatment, Turning, blended
from apilado.core.treatments.swings import cut_to, phase_turns


def turning_number(label: str) -> Any:
    """Declares in how many Hz something turns."""
    said = "A whole number of times in the piece, so that its end goes over into its beginning"
    return number(low=0.1, high=5000.0, step=0.1, scale="log", unit="Hz", label=label, help=said, moves=True)


class Carried(Treatment):
    """A sound and a sine. Subclasses override `carried`.

    What moves it is given over the whole loop: where its wave is follows from all that came before.
    """

    family: ClassVar[str] = "Modulation"
    takes_whole_curves: ClassVar[bool] = True
    blurs: ClassVar[bool] = True
    leading: ClassVar[tuple[str, ...]] = ("hertz", "follow", "blend", "output_db")

    hertz: Annotated[Value, turning_number("Frequency")] = 110.0
    follow: Annotated[
        float,
        number(
            low=0.0,
            high=1.0,
            label="Follows the notes",
            help="1: its frequency doubles where the notes go up by an octave; it is as it is set at C2",
        ),
    ] = 0.0
    output_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    blend: Annotated[Value, number(low=0.0, high=1.0, label="Blend", moves=True)] = 1.0

    def follows_notes(self) -> tuple[tuple[str, float], ...]:
        return (("hertz", self.follow),) if self.follow > 0.0 else ()

    def carried(self, audio: Audio, turns: NDArray[np.float64], clock: Clock) -> Audio:
        """The sound by a sine that has turned so often by each frame."""
        raise NotImplementedError

    def turns_phase(self) -> Turning:
        return "moving"

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        if isinstance(self.blend, float) and self.blend == 0.0:
            return audio
        wet = self.carried(audio, phase_turns(self.hertz, clock), clock)
        return blended(audio, wet, blend=cut_to(self.blend, clock), output_db=cut_to(self.output_db, clock))

    def in_words(self) -> str:
        return f"{least(self.hertz):.4g} Hz{', with the notes' if self.follow else ''}"
