"""The one contract for audio in Apilado: float32, C-contiguous, shape (channels, frames), 1 or 2 channels."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.breaking_off import pieces
from apilado.core.dsp.kernels import kernel

Audio: TypeAlias = NDArray[np.float32]


def as_audio(samples: NDArray[np.floating]) -> Audio:
    """The samples under the contract, copied only if they must be.

    Raises:
        ValueError: the array is not (1 or 2, frames).
    """
    if samples.ndim != 2 or samples.shape[0] not in (1, 2):
        raise ValueError(f"audio has the shape (1 or 2, frames); this has {samples.shape}")
    return np.ascontiguousarray(samples, dtype=np.float32)


def as_stereo(audio: Audio) -> Audio:
    """Two channels: a mono signal on both sides at its own level."""
    if audio.shape[0] == 2:
        return audio
    return np.ascontiguousarray(np.repeat(audio, 2, axis=0))


def is_mono(audio: Audio) -> bool:
    """Whether all channels are the same."""
    return audio.shape[0] == 1 or bool(_are_alike(audio[0], audio[1]))


@kernel
def _are_alike(left: Any, right: Any) -> bool:
    frame = 0
    while frame < left.shape[0] and left[frame] == right[frame]:
        frame += 1
    return bool(frame == left.shape[0])


@kernel
def largest(samples: Any) -> Any:
    """The largest magnitude of some samples, shape (frames,); 0 of none.

    Magnitudes are in the same order as their bits are, read as whole numbers: of these many are compared at a time.
    """
    found, bits, magnitude = np.zeros(1, np.uint32), samples.view(np.uint32), np.uint32(0x7FFFFFFF)
    most = found[0]
    for n in range(bits.shape[0]):
        most = max(most, bits[n] & magnitude)
    found[0] = most
    return found.view(np.float32)[0]


def peak_of(audio: Audio) -> float:
    """The largest magnitude of a sample; 0 of no samples."""
    return float(largest(np.ascontiguousarray(audio, np.float32).reshape(-1)))


@kernel
def _first_of_size(audio: Any, size: Any) -> int:
    for frame in range(audio.shape[1]):
        for channel in range(audio.shape[0]):
            if abs(audio[channel, frame]) == size:
                return frame
    return 0


def loudest_frame(audio: Audio) -> int:
    """The first frame in which a sample has the largest magnitude."""
    return int(_first_of_size(as_audio(audio), np.float32(peak_of(audio))))


def sounding_until(audio: Audio, floor_db: float) -> int:
    """Frames up to the last sample over a level in dB against full scale; 0 for silence."""
    loud = np.flatnonzero(np.max(np.abs(audio), axis=0, initial=0.0) > 10.0 ** (floor_db / 20.0))
    return int(loud[-1]) + 1 if loud.size else 0


TINY = 1e-30
"""Numbers below it, -600 dB, are silence. Processors take tens of times as long over the smallest there are."""


@kernel
def _has_tiny(flat: Any) -> bool:
    found, tiny, zero = False, np.float32(TINY), np.float32(0.0)
    for n in range(flat.shape[0]):  # by number, and in 32 bits: many at a time
        size = abs(flat[n])
        found |= (size < tiny) & (size > zero)
    return found


@kernel
def _silenced(flat: Any, out: Any) -> None:
    tiny, zero = np.float32(TINY), np.float32(0.0)
    for n in range(flat.shape[0]):
        out[n] = zero if abs(flat[n]) < tiny else flat[n]


def without_tiny(audio: Audio) -> Audio:
    """The audio with silence in the place of numbers below TINY; itself where there are none."""
    flat = audio.reshape(-1)
    if not any(_has_tiny(flat[first:end]) for first, end in pieces(flat.shape[0])):
        return audio
    out = np.empty_like(flat)
    for first, end in pieces(flat.shape[0]):
        _silenced(flat[first:end], out[first:end])
    return out.reshape(audio.shape)
