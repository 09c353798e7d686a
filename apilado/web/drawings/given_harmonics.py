"""What a source really gives on a note, beside the harmonics that are set: with all that its waves do to each other."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp.audio import Audio
from apilado.core.measure.notes import segment
from apilado.core.notes import voice_notes
from apilado.core.render.playing import layer_notes
from apilado.core.render.stage import stage
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
    """The spectrum of the selected layer's source on a note as it is played most, on the scale of its harmonics."""
    stack, clock = measures.stack, measures.clock
    layer = view.selected_layer(stack)
    if layer is None or not layer.source.waves():
        return ""
    notes = voice_notes(layer_notes(stack, layer), stack.beats)
    pitch = usual_pitch(stack)
    note = next((each for each in notes if each.pitch == pitch), notes[0] if notes else None)
    if note is None:
        return ""
    length = min(LONGEST_S, beats_to_seconds(note.length_beats, stack.tempo_bpm))
    start = clock.sample_at(note.start_beats) + round(min(BEGINS_S, length / 4.0) * clock.rate_hz)
    given = {"start": start, "frames": max(64, round(length * clock.rate_hz)), "rate_hz": clock.rate_hz}
    amplitudes = measures.run(stage(loudest_lines, measures.graph.sources[layer.id], **given))
    edges = _edges_hz()
    levels = np.maximum(gain_to_db(amplitudes), HARMONIC_LOW_DB)
    middles = np.sqrt(edges[:-1] * edges[1:])
    line = points((view.harmonic_x(float(v)), view.y(float(f))) for f, v in zip(middles, levels, strict=True))
    return tag("polyline", class_="given-harmonics", points=line)
