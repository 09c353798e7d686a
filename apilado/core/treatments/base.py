"""What every treatment is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray

from apilado.core.assets import AssetLoader, no_assets
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value, mapped, per_frame
from apilado.core.dsp.filters import HEARD_OF_A_TAIL
from apilado.core.parameters import switch
from apilado.core.parts import Part
from apilado.core.units import db_to_gain


def blended(dry: Audio, wet: Audio, *, blend: Value, output_db: Value, in_place: bool = False) -> Audio:
    """(1 - blend) of the dry sound and `blend` of the wet one, which is first turned up to its level.

    Args:
        in_place: `wet` is nobody else's, and may be written to.
    """
    share, gain = per_frame(blend), per_frame(mapped(output_db, db_to_gain))
    if isinstance(share, float) and share == 1.0:
        return np.multiply(wet, np.asarray(gain, np.float32), out=wet if in_place else None)
    left, taken = np.asarray(1.0 - share, np.float32), np.asarray(share * gain, np.float32)
    out = np.multiply(wet, taken, out=wet if in_place else None)
    for channel, clean in zip(out, np.broadcast_to(dry, out.shape), strict=True):
        channel += clean * left
    return out


Turning = Literal["", "fixed", "moving"]
"""How phases are turned: not at all, by as much at every moment, or otherwise from moment to moment."""


@dataclass(frozen=True)
class Handle:
    """What of a step is pulled in the Profile: up and down a frequency, left and right another value."""

    hertz: float
    frequency: str
    """The value that is the frequency; '' where that is not to be moved."""
    share: float
    """How far to the right it stands, 0 to 1."""
    sideways: str
    """The value that goes from left to right."""
    most: float
    """Of that value, at the right end."""
    words: str


class Treatment(Part):
    """One stage of a chain. Subclasses declare a `kind`, parameters, and override `process`."""

    label: ClassVar[str]
    family: ClassVar[str] = "Dynamics"
    """Under what it is found where treatments are added."""
    explains: ClassVar[str] = ""
    """What it is for, in a line."""
    reduces: ClassVar[bool] = False
    """Whether it takes gain, which is then measured."""
    rings_on: ClassVar[bool] = False
    """Whether it repeats or spreads its input, so that this is heard after it has ended, also where a section ends.
    What it makes of two sounds together is then the sum of what it makes of each."""
    by_reduction: ClassVar[bool] = False
    """Whether all that it does is to turn a sound down by its reduction: that is rendered by itself, and once."""
    has_curve: ClassVar[bool] = False
    """Whether what comes out of it at a moment follows from what goes in there, by a curve."""
    each_channel: ClassVar[bool] = False
    """Whether it treats either channel as if there were no other: two threads may then share the work."""
    takes_whole_curves: ClassVar[bool] = False
    """Whether in a stretch too it is given what moves it over the whole loop: its wave follows from all of that."""
    widens: ClassVar[bool] = False
    """Whether left and right may come out of it otherwise than they went in."""
    blurs: ClassVar[bool] = False
    """Whether it puts copies, echoes or a room beside a sound: the lowest layer is firmer without."""
    prepares: ClassVar[bool] = False
    """Whether something is made of its values once, such as a response."""
    on: Annotated[bool, switch(label="On")] = True

    def transfer(self, inputs: NDArray[np.float32]) -> NDArray[np.float32]:
        """What comes out for steady inputs: of those that have a curve."""
        raise NotImplementedError

    def curve_points(self) -> tuple[Any, ...]:
        """The points that its curve goes through, where it is drawn: parts with an `input` and an `output`."""
        return ()

    def curve_scale(self) -> tuple[float, float]:
        """(by what an input is multiplied before it meets those points, and what comes out behind them)."""
        return 1.0, 1.0

    def handle(self) -> Handle | None:
        """By what it is pulled in the Profile; None where it is not."""
        return None

    def response(
        self, frequencies_hz: NDArray[np.float64], rate_hz: int, load: AssetLoader = no_assets
    ) -> NDArray[np.complex128] | None:
        """What it does to each frequency where it stands still, drawn in the Profile; None of those that have none."""
        return None

    def asset_hashes(self) -> tuple[str, ...]:
        """The SHA-256 of every asset it needs."""
        return ()

    def prepared(self, rate_hz: int, load: AssetLoader = no_assets) -> Audio:
        """What is made once of all its values, and given to it as its key: of those that prepare something."""
        raise NotImplementedError

    def follows(self) -> str | None:
        """What it listens to besides its input: a drum by its name, a layer by its address; None for nothing."""
        return None

    def follows_notes(self) -> tuple[tuple[str, float], ...]:
        """(name of a value, by how many octaves it goes up where the notes go up by one) of what follows them."""
        return ()

    def process(self, audio: Audio, clock: Clock, key: Audio | None = None) -> Audio:
        """The treated audio, same shape, latency removed. Pure: same arguments, same samples.

        Args:
            key: what it follows, if it does; or what it has prepared.
        """
        raise NotImplementedError

    def reduction(self, audio: Audio, clock: Clock, key: Audio | None = None) -> NDArray[np.float32] | None:
        """The gain reduction in dB that it applies to this audio, shape (frames,), or (bands, frames) where bands have
        their own; below nothing where it lifts. None if it has none."""
        return None

    def turned_down(self, audio: Audio, reduction: NDArray[np.float32]) -> Audio:
        """The audio by a gain reduction in dB: of those that do it all by that."""
        raise NotImplementedError

    def tail_seconds(self, clock: Clock) -> float:
        """How long it may sound on after its input has ended."""
        return 0.0

    def memory_seconds(self, clock: Clock) -> float:
        """How long before a moment its input may lie that is still heard in it at more than -60 dB; infinite where it
        can only be made as a whole."""
        return HEARD_OF_A_TAIL * self.tail_seconds(clock)

    def fading_seconds(self, clock: Clock) -> float:
        """How much of that dies away as an exponential does, as in a filter: what fades in a row fades together."""
        return 0.0

    def ahead_seconds(self, clock: Clock) -> float:
        """How far ahead of a moment it looks, beyond a few milliseconds."""
        return 0.0

    def level_memory_ms(self, clock: Clock) -> float:
        """For how long it remembers the level of its input, down to -60 dB; 0 where it follows none."""
        return 0.0

    def turns_phase(self) -> Turning:
        """How it turns the phases of what goes through it."""
        return ""

    def mono_ways(self, border_hz: float) -> dict[str, float]:
        """Which of its values make it mono below a border, and nothing more of it than that; none if it has none."""
        return {}

    def keeps_level(self) -> bool:
        """Whether it is turned so that it comes out as loud as it went in, measured over the whole loop."""
        return False

    def overdone(self) -> Self | None:
        """The same, exaggerated: to hear its movement; None if it has none."""
        return None
