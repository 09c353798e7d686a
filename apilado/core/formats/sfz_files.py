"""SFZ: an open text format that maps samples to notes. A region for each sample; opcodes from memory of the format.

Used are the headers `<global>` and `<region>`, and `sample`, `lokey`, `hikey`, `pitch_keycenter`, `lovel`, `hivel`,
`seq_length`, `seq_position`, `loop_mode`, `loop_start`, `loop_end`, `ampeg_release`, `amp_veltrack`. Both ends of a
loop are frames that belong to it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Region:
    """A sample, and what plays it."""

    sample: str
    """The path of its file, with `/` between folders."""
    root: int
    low_key: int
    high_key: int
    low_velocity: int = 1
    high_velocity: int = 127
    turn: int = 1
    """Which of the round robins it is, from 1."""
    turns: int = 1
    loop: tuple[int, int] | None = None
    """(first frame, the one behind the last)."""


def write_sfz(regions: Sequence[Region], *, about: str, release_s: float, velocity_share: float) -> str:
    """The text of an SFZ file.

    Args:
        about: said in its first line.
        release_s: how long a note takes to end when it is let go.
        velocity_share: how much of a note's velocity reaches its level, 0 to 1.
    """
    lines = [f"// {about}".replace("\n", " "), ""]
    lines += ["<global>", f"ampeg_release={release_s:.3f}", f"amp_veltrack={100.0 * velocity_share:.0f}", ""]
    return "\n".join([*lines, *(_region(region) for region in regions), ""])


def _region(region: Region) -> str:
    said = [
        f"<region> sample={region.sample}",
        f"lokey={region.low_key} hikey={region.high_key} pitch_keycenter={region.root}",
        f"lovel={region.low_velocity} hivel={region.high_velocity}",
    ]
    if region.turns > 1:
        said.append(f"seq_length={region.turns} seq_position={region.turn}")
    if region.loop is None:
        said.append("loop_mode=no_loop")
    else:
        said.append(f"loop_mode=loop_continuous loop_start={region.loop[0]} loop_end={region.loop[1] - 1}")
    # The name of a file may hold spaces: it ends where its line does.
    return "\n".join(said)
