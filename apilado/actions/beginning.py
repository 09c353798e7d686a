"""From what a new stack begins: a recording, a MIDI file, a tone, a start of ours."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from apilado.actions.stacks import add_bundle
from apilado.actions.workspace import Workspace
from apilado.core.document.kick import Kick
from apilado.core.document.layer import MOST_NOTES, Layer, Span
from apilado.core.document.stack import MOST_BARS, Crossover, Stack
from apilado.core.formats.audio_files import read_audio
from apilado.core.formats.bundles import Bundle
from apilado.core.formats.midi_files import MidiTrack, read_midi
from apilado.core.measure.note_reading import Reading, read_notes
from apilado.core.notes import Note
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.units import hz_to_midi
from apilado.store.stacks import Revision

USUAL_BPM = 120.0
SLOWEST_BPM, FASTEST_BPM = 40.0, 240.0
SUB_BORDER_HZ, HIGH_BORDER_HZ = 110.0, 600.0
LOUDEST_DB, QUIETEST_DB = 0.0, -24.0
"""Under the loudest note of a recording: so much is the range of velocities."""
SHORTEST_BEATS = 1 / 64
TUNED_FROM_CENTS = 5.0
"""A recording that lies off concert pitch by less is left as it is."""
SKIPS_FROM_S, BEFORE_S = 0.05, 0.005
"""A recording that begins later is heard from shortly before its first note."""
TICKS_PER_BEAT = 960


def from_tone(workspace: Workspace, name: str) -> Revision:
    """A sine sub under a saw cut in two, one bar of notes, four kicks."""
    notes = tuple(Note(start_beats=b + 0.5, length_beats=0.4, pitch=31) for b in range(4))
    return workspace.stacks.create(_with_a_saw(name, notes, bars=1, tempo_bpm=126.0, key="G minor"))


def from_midi(workspace: Workspace, content: bytes, file_name: str) -> Revision:
    """The same, playing the lowest track of a MIDI file at its tempo.

    Raises:
        UnreadableFile: it is no MIDI file that can be read.
    """
    found = read_midi(content, file_name)
    track = min(found.tracks, key=_middle)
    tempo = min(max(found.tempo_bpm or USUAL_BPM, SLOWEST_BPM), FASTEST_BPM)
    bars = _bars(max(note.end_beats for note in track.notes))
    notes = tuple(note for note in track.notes if note.start_beats < 4 * bars)[:MOST_NOTES]
    return workspace.stacks.create(_with_a_saw(_name(file_name), notes, bars=bars, tempo_bpm=round(tempo, 3)), "Begin")


def from_recording(workspace: Workspace, content: bytes, file_name: str) -> tuple[Revision, Reading]:
    """A recording split above a clean sub that plays the notes that were read in it.

    Raises:
        UnreadableFile: it is no audio that can be read.
        StorageFault: there is no room for it.
    """
    asset = workspace.assets.add(content, file_name)
    audio, rate = read_audio(content, file_name)
    reading = read_notes(audio, rate)
    tempo = reading.tempo_bpm or USUAL_BPM
    first = reading.notes[0].start_s if reading.notes else 0.0
    skipped = first - BEFORE_S if first > SKIPS_FROM_S else 0.0
    notes = notes_of(reading, tempo, since_s=skipped)
    bars = _bars((audio.shape[1] / rate - skipped) * tempo / 60.0)
    take = TakeSource(
        asset=asset.sha256,
        file_name=file_name[-200:],
        skip_ms=round(1000.0 * skipped, 1),
        own_bpm=round(tempo, 3) if reading.tempo_bpm else 0.0,
        tune_cents=round(-reading.tuning_cents, 1) if abs(reading.tuning_cents) >= TUNED_FROM_CENTS else 0.0,
    )
    stack = Stack(
        name=_name(file_name),
        tempo_bpm=round(tempo, 3),
        bars=bars,
        pattern=tuple(note for note in notes if note.start_beats < 4 * bars),
        crossovers=(Crossover(frequency_hz=SUB_BORDER_HZ), Crossover(frequency_hz=HIGH_BORDER_HZ)),
        layers=(_sub(), _mid(take), _high()),
        kick=Kick(hits=tuple(float(beat) for beat in range(4 * bars)), mute=True),
    )
    return workspace.stacks.create(stack, "Begin"), reading


def from_start(workspace: Workspace, start: Bundle, name: str) -> Revision:
    """A start of ours, by a name of one's own."""
    stack = start.stack.model_copy(update={"name": name}) if name else start.stack
    return add_bundle(workspace, Bundle(stack, start.assets))


def notes_of(reading: Reading, tempo_bpm: float, *, since_s: float = 0.0, first_beat: float = 0.0) -> tuple[Note, ...]:
    """The notes of a reading as those of a pattern: where they were played, at the nearest semitone.

    Args:
        since_s: the moment of the recording that lies on `first_beat`.
    """
    beats = tempo_bpm / 60.0
    loudest = max((note.level_db for note in reading.notes), default=0.0)
    found = []
    for note in reading.notes:
        start = first_beat + _ticked((note.start_s - since_s) * beats)
        if start < 0.0:
            continue
        share = 1.0 + max(note.level_db - loudest, QUIETEST_DB) / (LOUDEST_DB - QUIETEST_DB)
        pitch = min(max(round(float(hz_to_midi(note.hertz)) - reading.tuning_cents / 100.0), 0), 127)
        length = max(_ticked((note.end_s - note.start_s) * beats), SHORTEST_BEATS)
        velocity = round(1 + 126 * min(max(share, 0.0), 1.0))
        found.append(Note(start_beats=start, length_beats=length, pitch=pitch, velocity=velocity))
    return tuple(found[:MOST_NOTES])


def told(reading: Reading) -> str:
    """What was read, in a sentence or two."""
    if not reading.notes:
        return "No notes were found in it: the pattern is empty."
    count = len(reading.notes)
    said = [f"{count} note{'' if count == 1 else 's'} read"]
    said.append(f"{reading.tempo_bpm:.2f} bpm" if reading.tempo_bpm else "no steady tempo, so 120 bpm stand")
    if abs(reading.tuning_cents) >= TUNED_FROM_CENTS:
        said.append(f"tuned {reading.tuning_cents:+.0f} cents".replace("-", "−"))
    doubts = len(reading.doubtful_s)
    more = f" {doubts} more beginning{'' if doubts == 1 else 's'} could not be told for sure." if doubts else ""
    return f"{', '.join(said)}.{more}"


def _with_a_saw(name: str, notes: Sequence[Note], *, bars: int, tempo_bpm: float, key: str = "") -> Stack:
    given = {"key": key} if key else {}
    return Stack(
        name=name,
        bars=bars,
        tempo_bpm=tempo_bpm,
        pattern=tuple(notes),
        kick=Kick(hits=tuple(float(beat) for beat in range(4 * bars))),
        crossovers=(Crossover(frequency_hz=SUB_BORDER_HZ), Crossover(frequency_hz=HIGH_BORDER_HZ)),
        layers=(_sub(), _mid(ToneSource()), _high()),
        **given,
    )


def _sub() -> Layer:
    return Layer(id="sub", name="sub", mono=True, source=ToneSource(tones=(Tone(shape="sine"),)), level_db=-8.0)


def _mid(source: ToneSource | TakeSource) -> Layer:
    return Layer(id="mid", name="mid", tint="slate", span=Span(first=1, last=1), level_db=-10.0, source=source)


def _high() -> Layer:
    above = {"span": Span(first=2, last=2), "source": LayerSound(layer="mid"), "level_db": -10.0}
    return Layer(id="high", name="high", tint="verdigris", **above)


def _bars(beats: float) -> int:
    """Bars of four beats that hold so many, and no more than a stack may have."""
    return min(MOST_BARS, max(1, math.ceil(beats / 4.0 - 0.05)))


def _ticked(beats: float) -> float:
    return round(beats * TICKS_PER_BEAT) / TICKS_PER_BEAT


def _middle(track: MidiTrack) -> float:
    return float(np.median([note.pitch for note in track.notes]))


def _name(file_name: str) -> str:
    return file_name.rsplit(".", 1)[0][:60].strip() or "New stack"
