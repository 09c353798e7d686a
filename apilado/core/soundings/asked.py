"""What the soundings ask of a stack besides its measurements: each question a stage, known before anything is measured.

They are asked with the measurements, in one run: where a piece is long, what a question is about would have left the
cache until it is asked.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.document.equaliser import eq_sections
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.dsp.filters import sections_response
from apilado.core.identity import ByIdentity
from apilado.core.measure.clicks import clicks
from apilado.core.measure.fullness import Fullness, fullness, harmonic_amplitudes
from apilado.core.measure.kick_phase import kick_meeting
from apilado.core.measure.notes import NoteMeasure, NoteSpan, levels_at, measure_notes, segment
from apilado.core.measure.partsum import fine_powers, part_sum
from apilado.core.measure.phase import octave_around
from apilado.core.measure.resonances import Resonance, resonances
from apilado.core.measure.spectrum import Spectrum, spectrum_of
from apilado.core.measure.stem import measure_stem
from apilado.core.notes import voice_notes
from apilado.core.render.builder import summed
from apilado.core.render.graph import Graph
from apilado.core.render.playing import expected_hz, layer_notes, root_of
from apilado.core.render.response import Chain, band_edges_hz, chains, whole_response
from apilado.core.render.stage import Stage, stage
from apilado.core.sources.base import Source
from apilado.core.units import db_to_gain

RESPONSE_POINTS = 600
SETTLED_MS, FULLNESS_MS = 60.0, 150.0
HARSH_LEAST_DB = 4.0
_SPANS = ByIdentity(256)
"""Of the notes that a source plays. They stay one object too, and so what stages are known by."""
_WIDEST = ByIdentity(256)
CARVED_DB = 12.0
"""What an EQ cuts deeper than this is meant to be gone."""


def asked_of(stack: Stack, graph: Graph, notes: Mapping[str, Stage], clock: Clock) -> dict[str, list[Stage]]:
    """Of each heard layer what is asked of it, as one that may turn out to be the sub and beside each that may.

    Args:
        notes: what measures the notes of each heard layer.
    """
    found = {layer: [peaks] for layer, peaks in peak_stages(stack, graph, notes, clock).items()}
    for sub in _lowest(stack):
        if len(notes) > 1:
            for layer, levels in level_stages(stack, graph, notes[sub.id], sub, clock).items():
                found[layer].append(levels)
        kick = kick_stage(stack, graph, sub.id, clock)
        alone = [clicks_stage(stack, graph, sub, clock), fullness_stage(graph, sub.id, notes[sub.id], clock)]
        found[sub.id] += [*alone, *([] if kick is None else [kick])]
    return found


def _lowest(stack: Stack) -> list[Layer]:
    """Of the heard layers that own the lowest band, those that reach least high."""
    lowest = [layer for layer in stack.audible_layers() if layer.span.first == 0]
    return [layer for layer in lowest if layer.span.last == min(each.span.last for each in lowest)]


def note_spans(stack: Stack, layer: Layer, clock: Clock) -> tuple[NoteSpan, ...]:
    """Every note that a layer's voice plays in a loop."""
    notes, root = layer_notes(stack, layer), root_of(stack, layer)

    def spans() -> tuple[NoteSpan, ...]:
        played = voice_notes(notes, clock.beats)
        starts = [clock.sample_at(note.start_beats) for note in played]
        following = [*starts[1:], clock.loop_frames + starts[0]] if starts else []
        hertz = {pitch: expected_hz(stack, layer, pitch) for pitch in {note.pitch for note in played}}
        return tuple(
            NoteSpan(
                note.start_beats,
                note.pitch,
                start,
                max(1, min(clock.sample_at(note.end_beats), after) - start),
                hertz[note.pitch],
            )
            for note, start, after in zip(played, starts, following, strict=True)
        )

    return _SPANS.get(spans, notes, root.source, beside=(clock, root.transpose))


def notes_stage(stack: Stack, layer: Layer, sound: Stage, clock: Clock) -> Stage:
    """What measures the notes of a layer in a sound of it."""
    return stage(measure_notes, sound, spans=note_spans(stack, layer, clock), rate_hz=clock.rate_hz)


def spectrum_stage(sound: Stage, clock: Clock) -> Stage:
    """The exact spectrum of a sound."""
    return stage(spectrum_of, sound, rate_hz=clock.rate_hz)


def stem_stage(sound: Stage, clock: Clock) -> Stage:
    """What is measured of a sound by itself."""
    return stage(measure_stem, sound, spectrum_stage(sound, clock))


def octave_stage(sound: Stage, clock: Clock, frequency_hz: float) -> Stage:
    """A sound in the octave around a border."""
    return stage(octave_around, spectrum_stage(sound, clock), frequency_hz=frequency_hz)


def heard_drums(stack: Stack) -> tuple[str, ...]:
    """The drums that sound within the loop, the kick first."""
    return tuple(name for name in stack.drum_names() if stack.sounds(stack.drum_owner(name)) and stack.hits(name))


def kick_stage(stack: Stack, graph: Graph, sub: str, clock: Clock) -> Stage | None:
    """What finds out how kick and sub add up; None where there is no kick."""
    if "kick" not in heard_drums(stack):
        return None
    hits = tuple(clock.sample_at(hit) for hit in stack.hits("kick"))
    return stage(kick_meeting, graph.kick, graph.layers[sub], hits=hits, rate_hz=clock.rate_hz)


def level_stages(stack: Stack, graph: Graph, notes: Stage, sub: Layer, clock: Clock) -> dict[str, Stage]:
    """How much of the sub's fundamental each heard layer carries in each note of the sub."""
    spans = note_spans(stack, sub, clock)
    return {
        layer.id: stage(sub_levels, graph.placed[layer.id], notes, spans=spans, rate_hz=clock.rate_hz)
        for layer in stack.audible_layers()
    }


def sub_levels(
    sound: NDArray[np.float32], notes: tuple[NoteMeasure, ...], *, spans: tuple[NoteSpan, ...], rate_hz: int
) -> tuple[float | None, ...]:
    """The power of the fundamental of each of the sub's notes in a sound, as it was measured, else as it should be."""
    hertz = tuple(note.frequency_hz or span.expected_hz for note, span in zip(notes, spans, strict=True))
    return levels_at(sound, spans=spans, frequencies_hz=hertz, rate_hz=rate_hz)


def clicks_stage(stack: Stack, graph: Graph, sub: Layer, clock: Clock) -> Stage:
    """The clicks of the sub, where its notes begin and end and where the loop joins."""
    spans = note_spans(stack, sub, clock)
    moments = tuple(sorted({at for span in spans for at in (span.first, span.first + span.frames)}))
    return stage(clicks, graph.placed[sub.id], moments=moments, rate_hz=clock.rate_hz)


def fullness_stage(graph: Graph, sub: str, notes: Stage, clock: Clock) -> Stage:
    """What one cycle of the sub's loudest note is like."""
    return stage(loudest_cycle, graph.placed[sub], notes, clock=clock)


def loudest_cycle(sound: Audio, notes: tuple[NoteMeasure, ...], *, clock: Clock) -> Fullness | None:
    """What one cycle of the loudest note in a sound is like, where one has a pitch."""
    heard = [note for note in notes if note.frequency_hz]
    if not heard:
        return None
    note = max(heard, key=lambda each: each.level_db)
    start = clock.sample_at(note.start_beats) + clock.samples_in_ms(SETTLED_MS)
    part = segment(sound, start, clock.samples_in_ms(FULLNESS_MS))
    return fullness(harmonic_amplitudes((part[0] + part[1]) / 2.0, note.frequency_hz or 1.0, clock.rate_hz))


def peak_stages(stack: Stack, graph: Graph, notes: Mapping[str, Stage], clock: Clock) -> dict[str, Stage]:
    """The narrow peaks of each heard layer."""
    found = {}
    for layer in stack.audible_layers():
        spectrum, spans = spectrum_stage(graph.layers[layer.id], clock), note_spans(stack, layer, clock)
        widest = widest_ratio(stack, layer)
        found[layer.id] = stage(peaks_between_harmonics, spectrum, notes[layer.id], widest=widest, spans=spans)
    return found


def peaks_between_harmonics(
    spectrum: Spectrum, notes: tuple[NoteMeasure, ...], *, widest: float, spans: tuple[NoteSpan, ...]
) -> tuple[Resonance, ...]:
    """The peaks of a layer that stand out of its harmonics, which lie `widest` times its notes' fundamentals apart."""
    spacing = spacing_hz(notes, widest, tuple(span.expected_hz for span in spans))
    return resonances(spectrum, least_db=HARSH_LEAST_DB, fundamental_hz=spacing)


def spacing_hz(notes: tuple[NoteMeasure, ...], widest: float, expected_hz: tuple[float, ...]) -> float:
    """How far apart the harmonics of a layer lie at most: those of its highest wave in its highest note.

    Of a band of its source no pitch may be measured: then it is what the source makes of the note.
    """
    hertz = [note.frequency_hz or expected for note, expected in zip(notes, expected_hz, strict=True)]
    return widest * max(hertz, default=0.0)


def widest_ratio(stack: Stack, layer: Layer) -> float:
    """By what the harmonics of a layer's highest wave lie further apart than its fundamental is high."""
    source = root_of(stack, layer).source
    return _WIDEST.get(partial(_widest_of, source), source)


def _widest_of(source: Source) -> float:
    waves = source.waves()
    lowest = min((wave.ratio() for wave in waves), default=1.0)
    return max((wave.ratio() * wave.apart() for wave in waves), default=1.0) / lowest


def part_sum_stages(stack: Stack, graph: Graph, clock: Clock) -> list[tuple[Chain, Stage]]:
    """What the parts of each split source add up to as they stand, before the duck."""
    rate = clock.rate_hz
    frequencies = np.geomspace(5.0, 0.499 * rate, RESPONSE_POINTS)
    edges, found = band_edges_hz(stack), []
    for chain in chains(stack):
        if len(chain.members) < 2 or not stack.crossovers:
            continue
        gains = np.abs(whole_response(stack, chain, frequencies, rate)) * _kept_of(stack, chain, frequencies)
        source = stage(
            fine_powers,
            spectrum_stage(graph.sources[chain.source], clock),
            gains=tuple(round(float(gain), 6) for gain in gains),
            frequencies_hz=tuple(float(f) for f in frequencies),
        )
        parts = summed([graph.placed[member.id] for member in chain.members], clock.frames)
        total = stage(fine_powers, spectrum_stage(parts, clock))
        between = (edges[chain.first], edges[chain.last + 1])
        found.append((chain, stage(part_sum, source, total, between_hz=between)))
    return found


def _kept_of(stack: Stack, chain: Chain, frequencies_hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """What of a source its parts keep on purpose: 1, and less where the EQs of all that own a band cut deeply."""
    kept = np.ones(frequencies_hz.shape[0])
    edges = band_edges_hz(stack)
    for band in range(chain.first, chain.last + 1):
        inside = (frequencies_hz >= edges[band]) & (frequencies_hz < edges[band + 1])
        through = [
            np.abs(sections_response(sections, frequencies_hz[inside], stack.sample_rate))
            for owner in chain.owners(band)
            for sections in [eq_sections(stack.all_points(f"layers/{owner.id}"), stack.sample_rate)]
        ]
        if through:
            kept[inside] = np.minimum(1.0, np.max(through, axis=0) / db_to_gain(-CARVED_DB))
    return kept
