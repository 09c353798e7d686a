"""What is found in the sound of a layer: its notes, its root, where it can be sliced."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from apilado.actions.beginning import TUNED_FROM_CENTS, notes_of
from apilado.actions.workspace import Workspace
from apilado.core.document.edits import Several
from apilado.core.document.edits_pattern import SetPattern
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.formats.audio_files import audio_rate
from apilado.core.formats.bundles import Asset
from apilado.core.formats.sampler_chunk import sampler_chunk
from apilado.core.measure.note_reading import Reading, read_notes
from apilado.core.measure.onsets import onsets
from apilado.core.measure.pitch import pitch_hz
from apilado.core.sources.sample import LATEST_LOOP_MS, LONGEST_LOOP_MS, MOST_SLICES, SHORTEST_LOOP_MS
from apilado.core.units import hz_to_midi, midi_to_name
from apilado.errors import InvalidEdit

BODY_S = 0.4
LATER_S = (0.03, 0.15, 0.35, 0.0)
"""Behind the loudest moment: where its pitch is looked for, one after the other."""


@dataclass(frozen=True)
class Root:
    """The pitch that a sample is."""

    pitch: int
    cents: float

    def in_words(self) -> str:
        return f"{midi_to_name(self.pitch)} {self.cents:+.0f} cents".replace("-", "−")


def root_in(audio: Audio, rate_hz: int) -> Root | None:
    """The note that a sample is, by its pitch behind its loudest moment; None where it has none."""
    mono = np.asarray(np.mean(audio, axis=0, dtype=np.float64))
    loudest = int(np.argmax(np.abs(mono)))
    for later in LATER_S:
        first = min(loudest + round(later * rate_hz), max(0, mono.shape[0] - round(BODY_S * rate_hz)))
        found = pitch_hz(mono[first : first + round(BODY_S * rate_hz)], rate_hz)
        if found is not None:
            return _as_root(float(hz_to_midi(found)))
    return None


def _as_root(midi: float) -> Root:
    pitch = min(max(round(midi), 0), 127)
    return Root(pitch, round(100.0 * (midi - pitch), 1))


def sample_values(workspace: Workspace, asset: Asset, rate_hz: int) -> dict[str, object]:
    """What is known of a sample when it is brought: its root and its loop from its file, else its root by its pitch."""
    audio, chunk = workspace.load(asset.sha256, rate_hz), sampler_chunk(asset.content)
    values: dict[str, object] = {"end_ms": round(1000.0 * audio.shape[1] / rate_hz, 3)}
    root = root_in(audio, rate_hz) if chunk is None else _as_root(chunk.pitch)
    if root is not None:
        values.update(root=root.pitch, root_cents=root.cents)
    if chunk is not None and chunk.loop_frames is not None:
        own_rate = audio_rate(asset.content, f"sample.{asset.extension}")
        begin_ms, end_ms = (1000.0 * frame / own_rate for frame in chunk.loop_frames)
        if SHORTEST_LOOP_MS <= end_ms - begin_ms <= LONGEST_LOOP_MS and begin_ms <= LATEST_LOOP_MS:
            values.update(held=True, hold_at_ms=round(begin_ms, 3), hold_ms=round(end_ms - begin_ms, 4))
    return values


def root_of_layer(workspace: Workspace, stack: Stack, layer: Layer) -> tuple[Several, str]:
    """(the edit that sets the root of a layer's sample, what was found).

    Raises:
        InvalidEdit: it has no pitch that could be told.
    """
    audio = _heard(workspace, stack, layer)
    found = root_in(audio, stack.sample_rate)
    if found is None:
        raise InvalidEdit(f"no clear pitch was found in the sample of '{layer.name}'; set its root by hand")
    here = f"layers/{layer.id}/source"
    edits = (SetValue(path=f"{here}/root", value=found.pitch), SetValue(path=f"{here}/root_cents", value=found.cents))
    return Several(name="Find the root", edits=edits), f"The root is {found.in_words()}."


def slices_of_layer(workspace: Workspace, stack: Stack, layer: Layer) -> tuple[Several, str]:
    """(the edit that slices a layer's sample where something begins in it, what was found).

    Raises:
        InvalidEdit: nothing begins in it.
    """
    found = onsets(workspace.load(_asset(layer), stack.sample_rate), rate_hz=stack.sample_rate)
    if not found:
        raise InvalidEdit(f"nothing begins in the sample of '{layer.name}': there is nothing to slice")
    here, places = f"layers/{layer.id}/source", [round(1000.0 * each.seconds, 1) for each in found][:MOST_SLICES]
    edits = (SetValue(path=f"{here}/slices_ms", value=places), SetValue(path=f"{here}/sliced", value=True))
    return Several(name="Slice at beginnings", edits=edits), f"{len(places)} slices, the first on the root."


def reading_of_layer(workspace: Workspace, stack: Stack, layer: Layer) -> Reading:
    """The notes of the recording that a layer plays."""
    return read_notes(workspace.load(_asset(layer), stack.sample_rate), stack.sample_rate)


def patterns_offered(stack: Stack, layer: Layer, reading: Reading) -> list[tuple[str, SetPattern]]:
    """(what it is called, the edit) of each way to take what was read as the pattern."""
    source = layer.source
    given = {
        "since_s": getattr(source, "skip_ms", 0.0) / 1000.0,
        "first_beat": getattr(source, "start_beats", 0.0),
    }
    offers = []
    # A take that is stretched lies in beats where it lay at its own tempo.
    laid_at = getattr(source, "own_bpm", 0.0) or stack.tempo_bpm
    tempi = [(f"At {stack.tempo_bpm:g} bpm, as the stack", laid_at, None)]
    if reading.tempo_bpm and abs(reading.tempo_bpm / stack.tempo_bpm - 1.0) > 0.001:
        own = round(reading.tempo_bpm, 3)
        tempi.append((f"At {own:g} bpm, as it was played", own, own))
    for name, tempo, changed in tempi:
        notes = notes_of(reading, tempo, **given)
        inside = tuple(note for note in notes if note.start_beats < stack.beats)
        if inside:
            offers.append((name, SetPattern(notes=inside, bars=stack.bars, tempo_bpm=changed)))
    return offers


def stretch_offered(stack: Stack, layer: Layer, reading: Reading) -> SetValue | None:
    """The edit that stretches a take from the tempo that was read in it to that of the stack; None where it is that."""
    has = "own_bpm" in type(layer.source).model_fields
    if not has or not reading.tempo_bpm or abs(reading.tempo_bpm / stack.tempo_bpm - 1.0) <= 0.001:
        return None
    return SetValue(path=f"layers/{layer.id}/source/own_bpm", value=round(reading.tempo_bpm, 2))


def tuning_offered(layer: Layer, reading: Reading) -> SetValue | None:
    """The edit that tunes a take to concert pitch; None where it lies there."""
    has = "tune_cents" in type(layer.source).model_fields
    if not has or abs(reading.tuning_cents) < TUNED_FROM_CENTS:
        return None
    return SetValue(path=f"layers/{layer.id}/source/tune_cents", value=round(-reading.tuning_cents, 1))


def _asset(layer: Layer) -> str:
    hashes = layer.source.asset_hashes()
    if not hashes:
        raise InvalidEdit(f"'{layer.name}' plays no recording")
    return hashes[0]


def _heard(workspace: Workspace, stack: Stack, layer: Layer) -> Audio:
    audio = workspace.load(_asset(layer), stack.sample_rate)
    first, last = (getattr(layer.source, name, 0.0) for name in ("start_ms", "end_ms"))
    rate = stack.sample_rate
    cut = audio[:, round(first * rate / 1000.0) : round(last * rate / 1000.0) if last else audio.shape[1]]
    return cut if cut.shape[1] else audio
