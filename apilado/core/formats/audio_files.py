"""Audio files in and out, through soundfile (libsndfile)."""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import Literal

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio, as_audio
from apilado.errors import UnreadableFile

LONGEST_SECONDS = 600.0
MOST_CHANNELS = 2
LARGEST_BYTES = 256 * 2**20
LOWEST_RATE_HZ, HIGHEST_RATE_HZ = 4000, 384000
BLOCK_FRAMES = 1 << 16
MOST_CHUNKS = 4096
EXTENSIONS = {
    "wav": ("WAV", "WAVEX", "RF64"),
    "aif": ("AIFF",),
    "aiff": ("AIFF",),
    "flac": ("FLAC",),
    "ogg": ("OGG",),
    "oga": ("OGG",),
    "mp3": ("MP3", "MPEG"),
}

Bits = Literal["16", "24", "32f"]
FileFormat = Literal["wav", "flac"]


def read_audio(content: bytes, file_name: str) -> tuple[Audio, int]:
    """The samples, shape (1 or 2, frames), and the rate of an audio file.

    Raises:
        UnreadableFile: not audio, not what its name says, cut short, empty, too long, more than two channels,
            or holding samples that are no numbers.
    """
    blocks = list(audio_blocks(content, file_name))
    return as_audio(np.concatenate([block for block, _ in blocks]).T), blocks[0][1]


def audio_rate(content: bytes, file_name: str) -> int:
    """The rate of an audio file in Hz.

    Raises:
        UnreadableFile: as `read_audio`.
    """
    return next(audio_blocks(content, file_name))[1]


def audio_seconds(content: bytes, file_name: str) -> float:
    """How long an audio file is.

    Raises:
        UnreadableFile: as `read_audio`.
    """
    return float(sum(block.shape[0] / rate for block, rate in audio_blocks(content, file_name)))


def check_audio(content: bytes, file_name: str) -> None:
    """Reads an audio file through, a block at a time, keeping none of it.

    Raises:
        UnreadableFile: as `read_audio`.
    """
    for _ in audio_blocks(content, file_name):
        pass


def read_at(content: bytes, file_name: str, rate_hz: int, *, most_seconds: float = LONGEST_SECONDS) -> Audio:
    """The samples of an audio file at a rate, resampled as they come (soxr, very high quality); at 0 as they lie there.

    Args:
        most_seconds: no more than so much of its beginning is read.

    Raises:
        UnreadableFile: as `read_audio`.
    """
    stream, parts, there = None, [], 0
    for block, rate in audio_blocks(content, file_name):
        if there >= most_seconds * rate:
            break
        there += block.shape[0]
        if rate_hz in (0, rate):
            parts.append(block)
            continue
        if stream is None:
            stream = soxr.ResampleStream(rate, rate_hz, block.shape[1], dtype="float32", quality="VHQ")
        parts.append(stream.resample_chunk(block))
    if stream is not None:
        parts.append(stream.resample_chunk(np.zeros((0, parts[0].shape[1]), np.float32), last=True))
    return as_audio(np.concatenate(parts).T)


def audio_blocks(content: bytes, file_name: str) -> Iterator[tuple[NDArray[np.float32], int]]:
    """The samples of an audio file in blocks of shape (frames, channels), each with the rate.

    Raises:
        UnreadableFile: as `read_audio`.
    """
    check_extension(file_name)
    if len(content) > LARGEST_BYTES:
        raise UnreadableFile(f"'{file_name}' has {len(content) / 2**20:.0f} MiB; the most is {LARGEST_BYTES >> 20} MiB")
    if not content:
        raise UnreadableFile(f"'{file_name}' is empty")
    _check_riff_length(content, file_name)
    there = 0
    try:
        with soundfile.SoundFile(_Held(content)) as file:
            _check_header(file, file_name)
            announced, rate = file.frames, int(file.samplerate)
            while there < announced:
                samples = file.read(min(BLOCK_FRAMES, announced - there), dtype="float32", always_2d=True)
                if samples.shape[0] == 0:
                    break
                there += samples.shape[0]
                if not np.all(np.isfinite(samples)):
                    raise UnreadableFile(f"'{file_name}' holds samples that are not numbers")
                yield samples, rate
    except (soundfile.LibsndfileError, ValueError, OverflowError) as error:
        detail = str(error).split(": ", 1)[-1].rstrip(".")
        raise UnreadableFile(f"'{file_name}' cannot be read as audio: {detail}") from None
    if there < announced:
        raise UnreadableFile(f"'{file_name}' is cut short: {there} of {announced} frames are there")


class _Held(io.BytesIO):
    """A file in memory in which a damaged header may send its reader anywhere: before the start is the start."""

    def seek(self, offset: int, whence: int = 0, /) -> int:
        try:
            return super().seek(offset, whence)
        except ValueError:
            return super().seek(0)


def check_extension(file_name: str) -> str:
    """The extension of an audio file's name, in lower case.

    Raises:
        UnreadableFile: no kind of audio that is read here.
    """
    extension = file_name.rsplit(".", 1)[-1].lower() if "." in file_name else ""
    if extension not in EXTENSIONS:
        raise UnreadableFile(f"'{file_name}' is none of WAV, AIFF, FLAC, OGG or MP3")
    return extension


def _check_header(file: soundfile.SoundFile, file_name: str) -> None:
    extension = check_extension(file_name)
    if file.format not in EXTENSIONS[extension]:
        raise UnreadableFile(f"'{file_name}' is named .{extension} but holds {file.format}; give it its right name")
    if file.channels > MOST_CHANNELS:
        raise UnreadableFile(f"'{file_name}' has {file.channels} channels; mono and stereo are read")
    if file.frames <= 0:
        raise UnreadableFile(f"'{file_name}' holds no audio: its length is zero")
    if not LOWEST_RATE_HZ <= file.samplerate <= HIGHEST_RATE_HZ:
        raise UnreadableFile(
            f"'{file_name}' has a rate of {file.samplerate} Hz; from {LOWEST_RATE_HZ} to {HIGHEST_RATE_HZ} Hz are read"
        )
    seconds = file.frames / file.samplerate
    if seconds > LONGEST_SECONDS:
        raise UnreadableFile(
            f"'{file_name}' lasts {seconds / 60:.0f} minutes; the most is {LONGEST_SECONDS / 60:.0f} minutes"
        )


def _check_riff_length(content: bytes, file_name: str) -> None:
    """A WAV whose data chunk announces more than there is: libsndfile would shorten it without a word."""
    if content[:4] != b"RIFF" or content[8:12] != b"WAVE":
        return
    at, chunks = 12, 0
    while at + 8 <= len(content):
        chunks += 1
        if chunks > MOST_CHUNKS:
            raise UnreadableFile(f"'{file_name}' holds more than {MOST_CHUNKS} chunks before its audio")
        size = int.from_bytes(content[at + 4 : at + 8], "little")
        if content[at : at + 4] == b"data":
            there = len(content) - at - 8
            if there < size != 0xFFFFFFFF:
                raise UnreadableFile(f"'{file_name}' is cut short: {there} of {size} bytes of audio are there")
            return
        at += 8 + size + (size & 1)


def write_audio(
    audio: Audio, rate_hz: int, *, file_format: FileFormat = "wav", bits: Bits = "24", seed: int = 0
) -> bytes:
    """An audio file: 16 or 24 bits with triangular dither and rounding, or 32-bit float (WAV only).

    The same audio gives the same bytes at any time.

    Raises:
        ValueError: FLAC holds no float samples.
    """
    if file_format == "flac" and bits == "32f":
        raise ValueError("FLAC holds whole numbers: 16 or 24 bits")
    buffer = io.BytesIO()
    if bits == "32f":
        soundfile.write(buffer, audio.T, rate_hz, format="WAV", subtype="FLOAT")
        return without_chunk(buffer.getvalue(), b"PEAK")
    subtype = "PCM_16" if bits == "16" else "PCM_24"
    soundfile.write(buffer, quantised(audio, int(bits), seed).T, rate_hz, format=file_format.upper(), subtype=subtype)
    return buffer.getvalue()


def clipped_samples(audio: Audio, bits: Bits) -> int:
    """How many samples lie beyond what a file of these bits can hold; a float file holds them all."""
    if bits == "32f":
        return 0
    # A whole number up to half a step over the largest is still rounded to it.
    full = 2.0 ** (int(bits) - 1)
    return int(np.count_nonzero((audio * full > full - 0.5) | (audio * full < -full - 0.5)))


def without_chunk(content: bytes, name: bytes) -> bytes:
    """A WAV file without its chunks of a name: libsndfile's PEAK holds the time of day."""
    kept, at = [], 12
    while at + 8 <= len(content):
        size = int.from_bytes(content[at + 4 : at + 8], "little")
        end = at + 8 + size + (size & 1)
        if content[at : at + 4] != name:
            kept.append(content[at:end])
        at = end
    body = b"".join(kept)
    return b"RIFF" + (len(body) + 4).to_bytes(4, "little") + b"WAVE" + body


def quantised(audio: Audio, bits: int, seed: int) -> np.ndarray:
    """Samples as whole numbers in the top `bits` of int32 (int16 for 16), dithered by ±1 step, triangular."""
    full = 2 ** (bits - 1)
    random = np.random.default_rng(seed)
    dither = random.random(audio.shape, np.float32) - random.random(audio.shape, np.float32)
    whole = np.rint(audio.astype(np.float64) * full + dither)
    clipped = np.clip(whole, -full, full - 1).astype(np.int32)
    shifted: np.ndarray = clipped.astype(np.int16) if bits == 16 else clipped << (32 - bits)
    return shifted
