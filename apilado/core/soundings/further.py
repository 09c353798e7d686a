"""What only some soundings ask of a stack: each question a stage of its own."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from apilado.core.document.editing import Edit
from apilado.core.document.edits import apply
from apilado.core.document.equaliser import eq_sections
from apilado.core.document.stack import Stack
from apilado.core.dsp.filters import sections_response
from apilado.core.measure.clicks import Click, clicks
from apilado.core.measure.notes import NoteMeasure, levels_at, measure_notes
from apilado.core.measure.partsum import PartSum, fine_powers, part_sum
from apilado.core.measure.resonances import Resonance, resonances
from apilado.core.render.builder import summed
from apilado.core.render.graph import build
from apilado.core.render.playing import expected_hz, root_of
from apilado.core.render.response import Chain, band_edges_hz, chains, whole_response
from apilado.core.render.stage import Stage, stage
from apilado.core.soundings.measures import Measures, note_spans, placed_alone, spectrum_stage
from apilado.core.units import db_to_gain, power_to_db

DOUBLED_WITHIN_DB = 20.0
"""Notes in which the sub is further than this under its loudest are not asked who carries their fundamental."""
RESPONSE_POINTS = 600
HARSH_LEAST_DB = 4.0
CARVED_DB = 12.0
"""What an EQ cuts deeper than this is meant to be gone."""


def prefetch(measures: Measures) -> None:
    """Computes all of it at once, several stages at a time, before the soundings ask one after the other."""
    wanted = [
        *_doubled_stages(measures).values(),
        _clicks_stage(measures),
        measures.kick_stage,
        *_peak_stages(measures).values(),
        *[each for _, each in _part_sum_stages(measures)],
    ]
    measures.run_all([each for each in wanted if each is not None])


def doubled(measures: Measures) -> dict[str, tuple[float | None, ...]]:
    """How much of the sub's fundamental each other layer carries in each note of the sub, in dB against the sub.

    None in notes that are too short to tell, or in which the sub is quiet.
    """
    wanted, sub = _doubled_stages(measures), measures.sub
    if not wanted or sub is None:
        return {}
    levels: dict[str, tuple[float | None, ...]] = dict(
        zip(wanted, measures.run_all(list(wanted.values())), strict=True)
    )
    own = levels.pop(sub.id)
    loudest = max((power for power in own if power), default=0.0)
    quiet = loudest * 10.0 ** (-DOUBLED_WITHIN_DB / 10.0)
    return {
        name: tuple(
            None if a is None or b is None or a <= quiet else float(power_to_db(b / a))
            for a, b in zip(own, others, strict=True)
        )
        for name, others in levels.items()
    }


def _heard(measures: Measures) -> list[str]:
    return [layer.id for layer in measures.stack.audible_layers()]


def _doubled_stages(measures: Measures) -> dict[str, Stage]:
    sub = measures.sub
    if sub is None or len(measures.stems) < 2:
        return {}
    spans = note_spans(measures.stack, sub, measures.clock)
    notes = measures.notes[sub.id]
    hertz = tuple(note.frequency_hz or span.expected_hz for note, span in zip(notes, spans, strict=True))
    placed, rate = measures.graph.placed, measures.clock.rate_hz
    return {
        name: stage(levels_at, placed[name], spans=spans, frequencies_hz=hertz, rate_hz=rate)
        for name in _heard(measures)
    }


def sub_clicks(measures: Measures) -> tuple[Click, ...]:
    """Of the sub, where its notes begin and end and where the loop joins."""
    wanted = _clicks_stage(measures)
    found: tuple[Click, ...] = () if wanted is None else measures.run(wanted)
    return found


def _clicks_stage(measures: Measures) -> Stage | None:
    sub = measures.sub
    if sub is None:
        return None
    spans = note_spans(measures.stack, sub, measures.clock)
    moments = tuple(sorted({at for span in spans for at in (span.first, span.first + span.frames)}))
    return stage(clicks, measures.graph.placed[sub.id], moments=moments, rate_hz=measures.clock.rate_hz)


def peaks(measures: Measures) -> dict[str, tuple[Resonance, ...]]:
    """The narrow peaks of each heard layer, the worst first."""
    wanted = _peak_stages(measures)
    return dict(zip(wanted, measures.run_all(list(wanted.values())), strict=True))


def _peak_stages(measures: Measures) -> dict[str, Stage]:
    found = {}
    for name in _heard(measures):
        fundamental = harmonic_spacing_hz(measures, name)
        spectrum = spectrum_stage(measures.graph.layers[name], measures.clock)
        found[name] = stage(resonances, spectrum, least_db=HARSH_LEAST_DB, fundamental_hz=fundamental)
    return found


def harmonic_spacing_hz(measures: Measures, layer_id: str) -> float:
    """How far apart the harmonics of a layer lie at most: those of its highest wave in its highest note.

    Of a band of its source no pitch may be measured: then it is what the source makes of the note.
    """
    layer = measures.stack.layer(layer_id)
    if layer is None:
        return 0.0
    waves = root_of(measures.stack, layer).source.waves()
    lowest = min((wave.ratio() for wave in waves), default=1.0)
    widest = max((wave.ratio() * wave.apart() for wave in waves), default=1.0) / lowest
    hertz = [note.frequency_hz or expected_hz(measures.stack, layer, note.pitch) for note in measures.notes[layer_id]]
    return widest * max(hertz, default=0.0)


def part_sums(measures: Measures) -> tuple[tuple[Chain, PartSum], ...]:
    """What the parts of each split source add up to as they stand, before the duck."""
    found = [(chain, measures.run(wanted)) for chain, wanted in _part_sum_stages(measures)]
    return tuple((chain, measured) for chain, measured in found if measured is not None)


def _part_sum_stages(measures: Measures) -> list[tuple[Chain, Stage]]:
    stack, rate = measures.stack, measures.clock.rate_hz
    frequencies = np.geomspace(5.0, 0.499 * rate, RESPONSE_POINTS)
    edges, found = band_edges_hz(stack), []
    for chain in chains(stack):
        if len(chain.members) < 2 or not stack.crossovers:
            continue
        gains = np.abs(whole_response(stack, chain, frequencies, rate)) * _kept_of(stack, chain, frequencies)
        source = stage(
            fine_powers,
            spectrum_stage(measures.graph.sources[chain.source], measures.clock),
            gains=tuple(round(float(gain), 6) for gain in gains),
            frequencies_hz=tuple(float(f) for f in frequencies),
        )
        parts = summed([measures.graph.placed[member.id] for member in chain.members], measures.clock.frames)
        total = stage(fine_powers, spectrum_stage(parts, measures.clock))
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


def notes_after(measures: Measures, edit: Edit, layer_id: str) -> tuple[NoteMeasure, ...]:
    """A layer's notes as they would be after an edit, found by rendering them."""
    stack = apply(measures.stack, edit)
    layer = stack.layer(layer_id)
    if layer is None:
        return ()
    graph = build(stack, measures.clock, measures.load)
    placed = placed_alone(stack, graph, measures.clock, measures.load)[layer_id]
    spans = note_spans(stack, layer, measures.clock)
    found: tuple[NoteMeasure, ...] = measures.run(
        stage(measure_notes, placed, spans=spans, rate_hz=measures.clock.rate_hz)
    )
    return found
