"""Standard MIDI files in and out, through mido.

A slide has no place in a MIDI file: it is written as a note that overlaps the one before it, which a synthesiser of one
voice plays without a new attack, with a text event at its start that tells it apart from notes that merely overlap.
"""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, TypeAlias

import mido

from apilado.core.notes import Note
from apilado.errors import UnreadableFile

TICKS_PER_BEAT = 480
DEFAULT_TEMPO_BPM = 120.0
SHORTEST_BEATS = 1 / 64
LARGEST_BYTES = 512 * 2**10
SLOWEST_BPM, FASTEST_BPM = 4.0, 1000.0
"""Tempi outside of these are a slip of whoever wrote the file, and are not offered."""
SLIDE_TEXT = "apilado slide"
SLIDE_OVERLAP_TICKS = 10
DRUM_CHANNEL, BASS_DRUM, HIT_TICKS = 9, 36, 60
"""Channel 10, counted from 0, and the note of the bass drum (General MIDI 1, percussion key map; from memory)."""
FIRST_CONTROLLER, MOST_CONTROLLERS = 20, 12
"""Controllers that MIDI 1.0 leaves undefined: 20 to 31."""
CURVES_PER_BEAT = 32
Event: TypeAlias = tuple[int, int, Any]
"""(tick, order among those of one tick, message)."""


@dataclass(frozen=True)
class MidiTrack:
    """One track that holds notes."""

    index: int
    name: str
    notes: tuple[Note, ...]


@dataclass(frozen=True)
class MidiPattern:
    """What a MIDI file offers."""

    tempo_bpm: float | None
    tracks: tuple[MidiTrack, ...]


def read_midi(content: bytes, file_name: str) -> MidiPattern:
    """The tracks with notes of a MIDI file of format 0 or 1, and its first tempo.

    Raises:
        UnreadableFile: no MIDI file, cut short, of format 2, timed in SMPTE frames, or without notes.
    """
    if content[:4] != b"MThd" or len(content) < 14:
        raise UnreadableFile(f"'{file_name}' is not a standard MIDI file")
    if len(content) > LARGEST_BYTES:
        raise UnreadableFile(f"'{file_name}' has {len(content) >> 10} KiB; the most is {LARGEST_BYTES >> 10} KiB")
    if content[12] & 0x80:
        raise UnreadableFile(f"'{file_name}' is timed in SMPTE frames; files timed in beats are read")
    if int.from_bytes(content[12:14], "big") == 0:
        raise UnreadableFile(f"'{file_name}' has a division of zero ticks per beat")
    if int.from_bytes(content[8:10], "big") not in (0, 1):
        raise UnreadableFile(f"'{file_name}' is of format {int.from_bytes(content[8:10], 'big')}; 0 and 1 are read")
    _check_chunks(content, file_name)
    try:
        file = mido.MidiFile(file=io.BytesIO(content))
    except EOFError:
        raise UnreadableFile(f"'{file_name}' is cut short: a track ends in the middle") from None
    except Exception as error:  # whatever a reader of another's makes of a damaged file
        raise UnreadableFile(f"'{file_name}' cannot be read as MIDI: {error}") from None
    tempo = _tempo_of(file)
    tracks = []
    for index, track in enumerate(file.tracks):
        notes = _notes(track, file.ticks_per_beat)
        if notes:
            tracks.append(MidiTrack(index, str(track.name).strip() or f"Track {index + 1}", notes))
    if not tracks:
        raise UnreadableFile(f"'{file_name}' holds no notes")
    return MidiPattern(tempo, tuple(tracks))


def _tempo_of(file: mido.MidiFile) -> float | None:
    """The first tempo in bpm; None where there is none that makes sense."""
    for track in file.tracks:
        for message in track:
            if message.type == "set_tempo":
                bpm = 60e6 / message.tempo if message.tempo > 0 else 0.0
                return bpm if SLOWEST_BPM <= bpm <= FASTEST_BPM else None
    return None


def _check_chunks(content: bytes, file_name: str) -> None:
    """Every track that the header announces must be there whole."""
    announced, found, at = int.from_bytes(content[10:12], "big"), 0, 14
    while at + 8 <= len(content):
        size = int.from_bytes(content[at + 4 : at + 8], "big")
        if at + 8 + size > len(content):
            break
        found += content[at : at + 4] == b"MTrk"
        at += 8 + size
    if found < announced:
        raise UnreadableFile(f"'{file_name}' is cut short: {found} of {announced} tracks are there whole")


def _notes(track: mido.MidiTrack, ticks_per_beat: int) -> tuple[Note, ...]:
    now = 0
    open_notes: dict[tuple[int, int], tuple[int, int]] = {}
    notes: list[Note] = []
    slides: set[float] = set()

    def close(key: tuple[int, int]) -> None:
        start, velocity = open_notes.pop(key)
        length = max((now - start) / ticks_per_beat, SHORTEST_BEATS)
        if start / ticks_per_beat <= 1024.0:
            notes.append(
                Note(
                    start_beats=start / ticks_per_beat, length_beats=min(length, 256.0), pitch=key[1], velocity=velocity
                )
            )

    for message in track:
        now += message.time
        if message.type == "text" and message.text == SLIDE_TEXT:
            slides.add(now / ticks_per_beat)
        if message.type not in ("note_on", "note_off"):
            continue
        key = (message.channel, message.note)
        if key in open_notes:
            close(key)
        if message.type == "note_on" and message.velocity > 0:
            open_notes[key] = (now, message.velocity)
    for key in list(open_notes):
        close(key)
    ordered = sorted(notes, key=lambda note: (note.start_beats, note.pitch))
    return tuple(_with_slides(ordered, slides, SLIDE_OVERLAP_TICKS / ticks_per_beat))


def _with_slides(notes: list[Note], slides: set[float], overlap_beats: float) -> list[Note]:
    """The notes at the marked starts as slides, the overlaps that were written for them taken back."""
    found = []
    for index, note in enumerate(notes):
        following = notes[index + 1].start_beats if index + 1 < len(notes) else None
        if following in slides and abs(note.end_beats - overlap_beats - following) < 1e-6:
            note = note.model_copy(update={"length_beats": following - note.start_beats})
        found.append(note.model_copy(update={"slide": note.start_beats in slides}))
    return found


@dataclass(frozen=True)
class Controller:
    """A value that moves, as a controller of a MIDI file."""

    name: str
    number: int
    values: tuple[int, ...]
    """0 to 127, CURVES_PER_BEAT to a beat."""


def write_midi(
    notes: Sequence[Note],
    *,
    tempo_bpm: float,
    beats_per_bar: int,
    name: str,
    drums: Mapping[str, Sequence[float]] = MappingProxyType({}),
    markers: Mapping[float, str] = MappingProxyType({}),
    controllers: Sequence[Controller] = (),
) -> bytes:
    """A MIDI file of format 1 with a tempo track and the notes; 480 ticks per beat.

    Args:
        drums: the beats of each drum's hits, which get a track each: on channel 10, from the bass drum's note up.
        markers: by beat, what begins there.
        controllers: a track each.
    """
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_BEAT, charset="utf-8")
    head: list[Event] = [
        (0, 0, mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(tempo_bpm))),
        (0, 0, mido.MetaMessage("time_signature", numerator=beats_per_bar, denominator=4)),
    ]
    head += [(_tick(beat), 1, mido.MetaMessage("marker", text=said)) for beat, said in markers.items()]
    file.tracks.append(_track(name, head))
    if notes or not controllers:
        file.tracks.append(_track("Pattern", _note_events(notes)))
    for place, (drum, hits) in enumerate(drums.items()):
        file.tracks.append(_track(drum, _hit_events(hits, BASS_DRUM + place)))
    for each in controllers:
        file.tracks.append(_track(each.name, _controller_events(each)))
    buffer = io.BytesIO()
    file.save(file=buffer)
    return buffer.getvalue()


def _tick(beats: float) -> int:
    return round(beats * TICKS_PER_BEAT)


def _note_events(notes: Sequence[Note]) -> list[Event]:
    events: list[Event] = []
    ordered = sorted(notes, key=lambda note: (note.start_beats, note.pitch))
    for index, note in enumerate(ordered):
        start, end = _tick(note.start_beats), _tick(note.end_beats)
        for following in ordered[index + 1 : index + 2]:
            joined = following.slide and following.pitch != note.pitch
            if joined and end == _tick(following.start_beats):
                end += SLIDE_OVERLAP_TICKS
        if note.slide:
            events.append((start, 1, mido.MetaMessage("text", text=SLIDE_TEXT)))
        events.append((start, 1, mido.Message("note_on", note=note.pitch, velocity=note.velocity)))
        events.append((max(end, start + 1), 0, mido.Message("note_off", note=note.pitch, velocity=0)))
    return events


def _hit_events(hits: Sequence[float], pitch: int) -> list[Event]:
    given = {"note": pitch, "channel": DRUM_CHANNEL}
    starts = [_tick(hit) for hit in hits]
    ends = [(start + HIT_TICKS, 0, mido.Message("note_off", velocity=0, **given)) for start in starts]
    return [*[(start, 1, mido.Message("note_on", velocity=100, **given)) for start in starts], *ends]


def _controller_events(controller: Controller) -> list[Event]:
    found: list[Event] = []
    before = None
    for place, value in enumerate(controller.values):
        if value != before:
            message = mido.Message("control_change", control=controller.number, value=value)
            found.append((_tick(place / CURVES_PER_BEAT), 1, message))
        before = value
    return found


def _track(name: str, events: Sequence[Event]) -> mido.MidiTrack:
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=name, time=0))
    now = 0
    for tick, _, message in sorted(events, key=lambda event: event[:2]):
        track.append(message.copy(time=tick - now))
        now = tick
    return track
