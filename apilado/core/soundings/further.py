"""What only some soundings ask of a stack: each question a stage of its own."""

from __future__ import annotations

from apilado.core.document.editing import Edit
from apilado.core.document.edits import apply
from apilado.core.measure.clicks import Click
from apilado.core.measure.notes import NoteMeasure
from apilado.core.measure.partsum import PartSum
from apilado.core.measure.resonances import Resonance
from apilado.core.render.graph import build
from apilado.core.render.response import Chain
from apilado.core.soundings.asked import clicks_stage, level_stages, notes_stage, part_sum_stages, peak_stages
from apilado.core.soundings.measures import Measures, placed_alone
from apilado.core.units import power_to_db

DOUBLED_WITHIN_DB = 20.0
"""Notes in which the sub is further than this under its loudest are not asked who carries their fundamental."""


def doubled(measures: Measures) -> dict[str, tuple[float | None, ...]]:
    """How much of the sub's fundamental each other layer carries in each note of the sub, in dB against the sub.

    None in notes that are too short to tell, or in which the sub is quiet.
    """
    sub = measures.sub
    if sub is None or len(measures.stems) < 2:
        return {}
    wanted = level_stages(measures.stack, measures.graph, measures.note_stages[sub.id], sub, measures.clock)
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


def sub_clicks(measures: Measures) -> tuple[Click, ...]:
    """Of the sub, where its notes begin and end and where the loop joins."""
    if measures.sub is None:
        return ()
    found: tuple[Click, ...] = measures.run(clicks_stage(measures.stack, measures.graph, measures.sub, measures.clock))
    return found


def peaks(measures: Measures) -> dict[str, tuple[Resonance, ...]]:
    """The narrow peaks of each heard layer, the worst first."""
    wanted = peak_stages(measures.stack, measures.graph, measures.note_stages, measures.clock)
    return dict(zip(wanted, measures.run_all(list(wanted.values())), strict=True))


def part_sums(measures: Measures) -> tuple[tuple[Chain, PartSum], ...]:
    """What the parts of each split source add up to as they stand, before the duck."""
    asked = part_sum_stages(measures.stack, measures.graph, measures.clock)
    found = [(chain, measures.run(wanted)) for chain, wanted in asked]
    return tuple((chain, measured) for chain, measured in found if measured is not None)


def notes_after(measures: Measures, edit: Edit, layer_id: str) -> tuple[NoteMeasure, ...]:
    """A layer's notes as they would be after an edit, found by rendering them."""
    stack = apply(measures.stack, edit)
    layer = stack.layer(layer_id)
    if layer is None:
        return ()
    graph = build(stack, measures.clock, measures.load)
    placed = placed_alone(stack, graph, measures.clock, measures.load)[layer_id]
    found: tuple[NoteMeasure, ...] = measures.run(notes_stage(stack, layer, placed, measures.clock))
    return found
