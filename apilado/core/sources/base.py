"""What every source is."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.curves import Value
from apilado.core.identity import ByIdentity
from apilado.core.notes import Note
from apilado.core.parameters import Model
from apilado.core.sources.voice import Voice
from apilado.core.sources.voicing import stands_still
from apilado.core.treatments.filter import Filter

Chance = Literal["place", "order"]
"""What chance hangs on besides the seed: a note's place in the piece, or its number in the list of notes."""


@dataclass(frozen=True)
class Score:
    """What a source plays from."""

    notes: tuple[Note, ...]
    transpose: int
    seed: int
    voice: Voice
    chance: Chance = "place"


@dataclass(frozen=True)
class Mark:
    """A place in a recorded sound that is a value of its source."""

    value: str
    ms: float
    less: float = 0.0
    """The value is the place less so much."""


@dataclass(frozen=True)
class Marks:
    """What a source cuts out of a recorded sound."""

    asset: str
    file_name: str
    places: dict[str, Mark]
    """'start', 'end' (at 0 the end of the file) and, where something is held, 'hold'."""
    held_ms: tuple[float, float] | None = None
    """From where to where it is held."""
    slices_ms: tuple[float, ...] = ()


_TOLD = ByIdentity(128)


def told_apart(source: Source, score: Score, clock: Clock) -> tuple[Hashable, ...] | None:
    """What the runs of a source hang on, all of them, for them to be kept; None where something moves over them."""
    told: tuple[str, str] | None = _TOLD.get(
        lambda: (source.model_dump_json(), score.voice.model_dump_json()) if stands_still(source) else None,
        source,
        score.voice,
    )
    return None if told is None else (*told, score.transpose, clock.rate_hz, clock.tempo_bpm)


class Source(Model):
    """A source makes a layer's raw sound. Subclasses declare parameters and override `render`."""

    label: ClassVar[str]
    plays_notes: ClassVar[bool] = True
    finds: ClassVar[tuple[str, ...]] = ()
    """What can be looked for in its sound: 'root', 'slices', 'notes'."""

    @classmethod
    def beginning(cls, stack: Any, layer: Any) -> dict[str, Any]:
        """The fields that a layer's source of this kind begins with, given its stack and the layer.

        Raises:
            InvalidEdit: it needs something that is not there.
        """
        return {}

    def render(self, score: Score, clock: Clock, load: AssetLoader) -> Audio:
        """The sound over the whole clock, shape (1 or 2, clock.frames). Pure: same arguments, same samples."""
        raise NotImplementedError

    def follows(self, *, treated: bool = True) -> str | None:
        """The id of the layer whose sound it takes; None for a sound of its own.

        Args:
            treated: whether one that is taken behind the other's treatments counts too.
        """
        return None

    def marks(self) -> Marks | None:
        """What it cuts out of a recorded sound; None where it has none."""
        return None

    def versions(self) -> tuple[tuple[Any, ...], Value]:
        """(the settings between which it walks, how far it is: 0 as it stands, 1 at the first); none where it has
        none."""
        return getattr(self, "settings", ()), getattr(self, "at_setting", 0.0)

    def own_filters(self) -> tuple[Filter, ...]:
        """The filters that stand in it, before anything of its layer."""
        return getattr(self, "filters", ())

    def filters_in_a_row(self) -> bool:
        """Whether the second of its filters takes what the first leaves; else both stand side by side."""
        return getattr(self, "filters_stand", "in a row") == "in a row"

    def side(self, *, through: bool) -> Source | None:
        """What of it goes through its filters, or past them, without these; None where that is nothing."""
        return self

    def turned(self, cycles: float) -> dict[str, float] | None:
        """The values, by their address in the source, with which its whole sound is earlier by cycles of the note.

        None where it cannot be turned.
        """
        return None

    def drifts(self) -> tuple[str, ...]:
        """Why it keeps no phase against its neighbours: sentences with {layer} for the name of its layer."""
        return ()

    def asset_hashes(self) -> tuple[str, ...]:
        """The SHA-256 of every asset it needs."""
        return ()

    def tail_seconds(self, score: Score, clock: Clock) -> float:
        """How long it may sound after the last beat of a single pass."""
        return 0.0

    def waves(self) -> tuple[Any, ...]:
        """The waves that it is made of, whose shapes and harmonics can be set; none where it is not made of waves."""
        return ()

    def pitched(self) -> bool:
        """Whether its pitch is that of the notes that it plays."""
        return self.plays_notes

    def velocity_share(self) -> float:
        """How much of a note's velocity reaches its level, 0 to 1."""
        return 0.0

    def shift_st(self) -> float:
        """By how many semitones it plays higher than its notes are written."""
        return 0.0

    def lowest_ratio(self) -> float:
        """The lowest frequency that it makes of a note, against the note's own."""
        return 1.0
