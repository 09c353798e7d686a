"""Equal loudness: by how much each of several sounds is turned down, so that none wins by being louder."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

LEAST_LKFS = -40.0
"""What is quieter stays as it is: to match it, all else would have to be turned down out of hearing."""


@dataclass(frozen=True)
class Match:
    """How a sound is played beside others."""

    gain_db: float
    """0 or less: matching only turns down."""
    matched: bool
    """Whether it is as loud as the others; not where it is silent or too quiet, or where it has nothing beside it."""


def matched(loudness_lkfs: Sequence[float]) -> list[Match]:
    """Each of several sounds at the loudness of the quietest of them that can be matched at all."""
    loud = [each for each in loudness_lkfs if each >= LEAST_LKFS]
    if len(loud) < 2:
        return [Match(0.0, False) for _ in loudness_lkfs]
    least = min(loud)
    return [Match(least - each, True) if each >= LEAST_LKFS else Match(0.0, False) for each in loudness_lkfs]
