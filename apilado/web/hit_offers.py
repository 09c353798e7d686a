"""Hits found in a file, as offers to take them for a drum."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from apilado.core.document.edits_values import SetValue
from apilado.core.document.kick import MOST_HITS
from apilado.core.document.stack import Stack
from apilado.core.formats.midi_files import MidiPattern
from apilado.core.measure.onsets import Onset
from apilado.core.units import midi_to_name

LOW = 0.4
SIXTEENTH = 0.25


@dataclass(frozen=True)
class HitOffer:
    """Some hits, and the edit that takes them."""

    name: str
    count: int
    edit: SetValue
    snapped: SetValue | None = None
    """The same, each at its nearest sixteenth; None where they lie on sixteenths."""


def _offer(name: str, beats: Sequence[float], stack: Stack, drum: str) -> HitOffer:
    path = f"{stack.drum_owner(drum)}/hits"
    kept = sorted({round(beat, 4) for beat in beats if 0.0 <= beat < stack.beats})[:MOST_HITS]
    near = sorted({round(beat / SIXTEENTH) * SIXTEENTH % stack.beats for beat in kept})
    snapped = SetValue(path=path, value=near) if near != kept else None
    return HitOffer(name, len(kept), SetValue(path=path, value=kept), snapped)


def hits_in_midi(found: MidiPattern, stack: Stack, drum: str) -> list[HitOffer]:
    """One offer for each pitch of each track: a drum's notes share one."""
    offers = []
    for track in found.tracks:
        for pitch in sorted({note.pitch for note in track.notes}):
            beats = [note.start_beats for note in track.notes if note.pitch == pitch]
            offers.append(_offer(f"{track.name}: {midi_to_name(pitch)}", beats, stack, drum))
    return [offer for offer in offers if offer.count]


def hits_in_audio(found: Sequence[Onset], stack: Stack, drum: str) -> list[HitOffer]:
    """All onsets of an audio loop played at the stack's tempo; the low ones; the others."""

    def beats(chosen: Sequence[Onset]) -> list[float]:
        return [onset.seconds * stack.tempo_bpm / 60.0 for onset in chosen]

    low = [onset for onset in found if onset.low_share >= LOW]
    high = [onset for onset in found if onset.low_share < LOW]
    offers = [_offer("All onsets", beats(found), stack, drum)]
    if low and high:
        offers += [_offer("The low ones", beats(low), stack, drum), _offer("The others", beats(high), stack, drum)]
    return [offer for offer in offers if offer.count]
