"""Where beats fall in samples: the time base of one render."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from apilado.core.units import beats_to_samples, ms_to_samples


@dataclass(frozen=True)
class Clock:
    """Tempo, rate and extent of one render.

    A looped render has exactly the frames of its beats and its end runs into its start; a one-pass render starts
    from silence and adds `tail_seconds` after its last beat. A stretch is cut out of the endless repetition: it begins
    at any frame of it, and what sounds at that moment has begun before.
    """

    tempo_bpm: float
    beats: float
    rate_hz: int
    looped: bool
    tail_seconds: float = 0.0
    begins: int | None = None
    """Of a stretch: the frame of the endless repetition, counted from a beginning of the loop, at which it begins."""
    extent: int = 0
    """Of a stretch: its frames."""
    whole_beats: float = 0.0
    """Of a single pass that is cut short, such as one note: the beats of the piece, in which swings come round."""
    held_db: float = 0.0
    """Of a stretch: the gain reduction with which what follows a level for long begins."""
    rough_frames: int = 0
    """Of a stretch: so many of its first frames are there only for what remembers them, and may be rough."""

    @cached_property
    def comes_round(self) -> bool:
        """Whether the first note follows on the last: in a loop, and in a stretch of its repetition."""
        return self.looped or self.begins is not None

    @cached_property
    def whole(self) -> Clock:
        """The loop that a stretch is cut out of; any other clock itself."""
        if self.begins is None:
            return self
        return replace(self, looped=True, begins=None, extent=0, held_db=0.0, rough_frames=0)

    def stretch(self, begins: int, extent: int, rough_frames: int = 0) -> Clock:
        """A stretch of this loop's endless repetition, from a frame on, so many frames long."""
        of = {"begins": begins, "extent": extent, "rough_frames": rough_frames}
        return replace(self, looped=False, tail_seconds=0.0, **of)

    def places(self, start: int, length: int) -> list[int]:
        """Where in the render something lies that starts at a frame of the loop and lasts so many frames.

        Once, where it starts, in a loop or a single pass; in a stretch as often as it comes by, before its first frame
        too where it reaches into it.
        """
        if self.begins is None:
            return [start]
        first = -(-(self.begins - length + 1 - start) // self.loop_frames)
        last = (self.begins + self.frames - 1 - start) // self.loop_frames
        return [start + round_ * self.loop_frames - self.begins for round_ in range(first, last + 1)]

    def which(self, starts: NDArray[np.int64], lengths: NDArray[np.int64]) -> list[int]:
        """The numbers of those that have a place in the render, of what starts at frames of the loop and lasts so
        long."""
        if self.begins is None:
            return list(range(starts.shape[0]))
        first = -((starts + lengths - 1 - self.begins) // self.loop_frames)
        last = (self.begins + self.frames - 1 - starts) // self.loop_frames
        found: list[int] = np.flatnonzero(last >= first).tolist()
        return found

    def around(self) -> NDArray[np.int64]:
        """The frame of the loop at each frame of a stretch, shape (frames,)."""
        return (np.arange(self.frames) + (self.begins or 0)) % self.loop_frames

    @cached_property
    def loop_frames(self) -> int:
        """Frames from the first beat to the last."""
        return beats_to_samples(self.beats, self.tempo_bpm, self.rate_hz)

    @cached_property
    def round_frames(self) -> int:
        """Frames in which what swings by itself comes round: those of the piece."""
        return beats_to_samples(self.whole_beats or self.beats, self.tempo_bpm, self.rate_hz)

    @cached_property
    def frames(self) -> int:
        """Frames of the whole render."""
        if self.begins is not None:
            return self.extent
        return self.loop_frames + (0 if self.looped else round(self.tail_seconds * self.rate_hz))

    def sample_at(self, beats: float) -> int:
        """The frame nearest to a position in beats."""
        return beats_to_samples(beats, self.tempo_bpm, self.rate_hz)

    def frames_in_ms(self, duration_ms: float) -> float:
        """A duration in frames, not rounded."""
        return duration_ms * self.rate_hz / 1000.0

    def samples_in_ms(self, duration_ms: float) -> int:
        """The nearest whole number of frames in a duration."""
        return ms_to_samples(duration_ms, self.rate_hz)
