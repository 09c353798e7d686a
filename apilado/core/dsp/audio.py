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


def peak_of(audio: Audio) -> float:
    """The largest magnitude of a sample; 0 of no samples."""
    return float(max(np.max(audio, initial=0.0), -np.min(audio, initial=0.0)))


def loudest_frame(audio: Audio) -> int:
    """The first frame in which a sample has the largest magnitude."""
    places = [int(place) for channel in audio for place in (np.argmax(channel), np.argmin(channel))]
    return min(places, key=lambda place: (-float(np.max(np.abs(audio[:, place]))), place))


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
