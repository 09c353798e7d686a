"""What a source really gives on a note, beside the harmonics that are set: with all that its waves do to each other."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.document.addresses import within
from apilado.core.document.layer import Layer
from apilado.core.dsp.audio import Audio
from apilado.core.measure.notes import segment
from apilado.core.notes import Note, voice_notes
from apilado.core.render.graph import build
from apilado.core.render.playing import layer_notes
from apilado.core.render.stage import Stage, stage
from apilado.core.soundings.measures import Measures
from apilado.core.units import beats_to_seconds, gain_to_db
from apilado.web.drawings.plan_profile import usual_pitch
from apilado.web.drawings.svg import points, tag
from apilado.web.drawings.view import HARMONIC_LOW_DB, HIGHEST_HZ, LOWEST_HZ, View

BANDS_PER_OCTAVE = 48
BEGINS_S, LONGEST_S = 0.03, 0.4
WINDOW_BETA = 12.0


def loudest_lines(audio: Audio, *, start: int, frames: int, rate_hz: int) -> NDArray[np.float64]:
    """The strongest amplitude in each 1/48 octave from 20 Hz to 20 kHz of a stretch of a sound, its louder side.

    Shape (bands,); 1 for a sine at full scale.
    """
    part = segment(audio, start, frames).astype(np.float64)
    window = np.kaiser(part.shape[1], WINDOW_BETA)
    size = 1 << int(np.ceil(np.log2(max(4 * part.shape[1], 1 << 15))))
    lines = np.max(np.abs(np.fft.rfft(part * window, size)), axis=0) * 2.0 / max(float(window.sum()), 1e-9)
    edges = np.searchsorted(np.fft.rfftfreq(size, 1.0 / rate_hz), _edges_hz())
    edges = np.minimum(edges, lines.shape[0] - 1)
    return np.array([np.max(lines[a : max(b, a + 1)]) for a, b in itertools.pairwise(edges)])


def _edges_hz() -> NDArray[np.float64]:
    count = round(BANDS_PER_OCTAVE * np.log2(HIGHEST_HZ / LOWEST_HZ))
    return np.asarray(LOWEST_HZ * 2.0 ** (np.arange(count + 1) / BANDS_PER_OCTAVE))


def given_harmonics(measures: Measures, view: View) -> str:
    """The spectrum of the selected layer's source on a note as it is played most, on the scale of its harmonics; where
    it has several waves, that of each by itself as well."""
    layer = view.selected_layer(measures.stack)
    if layer is None or not layer.source.waves():
        return ""
    note = _usual_note(measures, layer)
    if note is None:
        return ""
    start = measures.clock.sample_at(note.start_beats) + _begins(measures, note)
    heard = [number for number, wave in enumerate(layer.source.tones) if wave.heard()]
    lines = []
    for number in heard if len(heard) > 1 else ():
        source = _alone(measures, layer, note, number)
        levels = measures.run(stage(loudest_lines, source, start=start, **_window(measures, note)))
        said = tag("title", f"Tone {number + 1} by itself")
        lines.append(_line(view, levels, f"given-harmonics of-a-wave wave-{number + 1}", said))
    whole = stage(loudest_lines, measures.graph.sources[layer.id], start=start, **_window(measures, note))
    return "".join([*lines, _line(view, measures.run(whole), "given-harmonics")])


def _usual_note(measures: Measures, layer: Layer) -> Note | None:
    notes, pitch = voice_notes(layer_notes(measures.stack, layer), measures.stack.beats), usual_pitch(measures.stack)
    return next((each for each in notes if each.pitch == pitch), notes[0] if notes else None)


def _seconds(measures: Measures, note: Note) -> float:
    return min(LONGEST_S, beats_to_seconds(note.length_beats, measures.stack.tempo_bpm))


def _begins(measures: Measures, note: Note) -> int:
    return round(min(BEGINS_S, _seconds(measures, note) / 4.0) * measures.clock.rate_hz)


def _window(measures: Measures, note: Note) -> dict[str, int]:
    rate = measures.clock.rate_hz
    return {"frames": max(64, round(_seconds(measures, note) * rate)), "rate_hz": rate}


def _alone(measures: Measures, layer: Layer, note: Note, number: int) -> Stage:
    """One wave of a source by itself, in a loop that plays the one note."""
    whole, source = measures.stack, layer.source
    tones = tuple(
        wave if wave.pushes() else wave.model_copy(update={"on": wave.on and place == number})
        for place, wave in enumerate(source.tones)
    )
    own = layer.model_copy(update={"source": source.model_copy(update={"tones": tones}), "notes": None})
    here = f"layers/{layer.id}/source"
    movements = tuple(
        each for each in whole.movements if each.begins != "section" and any(within(t.path, here) for t in each.targets)
    )
    bars = min(whole.bars, int(note.end_beats // whole.beats_per_bar) + 1)
    others = tuple(each for each in whole.layers if each.id != layer.id)
    alone = {"pattern": (note,), "bars": bars, "pattern_bars": 0, "sections": (), "movements": movements}
    stack = whole.model_copy(update={**alone, "layers": (own, *others)})
    clock = Clock(stack.tempo_bpm, stack.beats, measures.clock.rate_hz, looped=True)
    return build(stack, clock, measures.load).sources[layer.id]


def _line(view: View, amplitudes: NDArray[np.float64], called: str, *inside: str) -> str:
    edges = _edges_hz()
    levels = np.maximum(gain_to_db(amplitudes), HARMONIC_LOW_DB)
    middles = np.sqrt(edges[:-1] * edges[1:])
    line = points((view.harmonic_x(float(v)), view.y(float(f))) for f, v in zip(middles, levels, strict=True))
    return tag("polyline", *inside, class_=called, points=line)
