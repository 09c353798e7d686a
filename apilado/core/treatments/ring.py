"""Treatment: a sound times a sine."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.treatments.carried import Carried


class Ring(Carried):
    """Ring modulation: of each frequency come two, higher and lower by that of the sine."""

    label: ClassVar[str] = "Ring"
    explains: ClassVar[str] = "The sound times a sine: of each harmonic two side tones; it may go with the notes"

    kind: Literal["ring"] = "ring"

    def carried(self, audio: Audio, turns: NDArray[np.float64], clock: Clock) -> Audio:
        return np.asarray(audio * np.cos(2.0 * np.pi * turns).astype(np.float32))
