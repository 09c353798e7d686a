"""The sampler chunk of a WAV file: the root and the loop that whoever recorded it wrote there.

Layout after Microsoft and IBM, "Multimedia Programming Interface and Data Specifications 1.0" (1991) and its 1994
addition: nine words of 32 bits, the fourth the MIDI note, the fifth its fraction (2^32 to a semitone), the eighth the
number of loops, then six words for each, the third its first frame, the fourth its last.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

HEAD_BYTES, LOOP_BYTES = 36, 24
HIGHEST_NOTE = 127


@dataclass(frozen=True)
class SamplerChunk:
    """What it says."""

    pitch: float
    """The MIDI note that the sample is, with its fraction."""
    loop_frames: tuple[int, int] | None
    """(first frame, the one behind the last) of its first loop."""


def sampler_chunk(content: bytes) -> SamplerChunk | None:
    """What is written in a WAV file; None where there is no such chunk, or one that makes no sense."""
    if content[:4] != b"RIFF" or content[8:12] != b"WAVE":
        return None
    at = 12
    while at + 8 <= len(content):
        name, size = content[at : at + 4], int.from_bytes(content[at + 4 : at + 8], "little")
        if name == b"smpl":
            return _read(content[at + 8 : at + 8 + size])
        at += 8 + size + size % 2
    return None


def _read(body: bytes) -> SamplerChunk | None:
    if len(body) < HEAD_BYTES:
        return None
    note, fraction = struct.unpack_from("<II", body, 12)
    (loops,) = struct.unpack_from("<I", body, 28)
    if note > HIGHEST_NOTE:
        return None
    loop = None
    if loops and len(body) >= HEAD_BYTES + LOOP_BYTES:
        first, last = struct.unpack_from("<II", body, HEAD_BYTES + 8)
        loop = (first, last + 1) if last > first else None
    return SamplerChunk(note + fraction / 2.0**32, loop)


def with_sampler_chunk(content: bytes, rate_hz: int, *, pitch: int, loop_frames: tuple[int, int] | None) -> bytes:
    """A WAV file with a chunk that tells its root and its loop.

    Args:
        loop_frames: (first frame, the one behind the last).
    """
    loops = b"" if loop_frames is None else struct.pack("<6I", 0, 0, loop_frames[0], loop_frames[1] - 1, 0, 0)
    period_ns = round(1e9 / rate_hz)
    body = struct.pack("<9I", 0, 0, period_ns, pitch, 0, 0, 0, 0 if loop_frames is None else 1, 0) + loops
    whole = content[12:] + b"smpl" + struct.pack("<I", len(body)) + body
    return b"RIFF" + struct.pack("<I", len(whole) + 4) + b"WAVE" + whole
