"""Where beats fall in samples: the time base of one render."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from apilado.core.units import beats_to_samples, ms_to_samples


@dataclass(frozen=True)
class Clock:
    """Tempo, rate and extent of one render.

    A looped render has exactly the frames of its beats and its end runs into its start; a one-pass render starts
    from silence and adds `tail_seconds` after its last beat.
    """

    tempo_bpm: float
    beats: float
    rate_hz: int
    looped: bool
    tail_seconds: float = 0.0

    @cached_property
    def loop_frames(self) -> int:
        """Frames from the first beat to the last."""
        return beats_to_samples(self.beats, self.tempo_bpm, self.rate_hz)

    @cached_property
    def frames(self) -> int:
        """Frames of the whole render."""
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
