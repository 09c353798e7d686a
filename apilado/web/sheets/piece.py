"""The sheet of the whole piece: tempo, key, borders, pattern."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from apilado.core.document.stack import KEYS, MOST_BARS, Crossover, Stack, borders_of
from apilado.core.dsp.linear_phase import ringing_ms, tap_count
from apilado.core.measure.flatness import worst_ripple
from apilado.web.items import crossover_key
from apilado.web.sheets.base import Action, Field, Section, choice_field, fields_of
from apilado.web.sheets.parts import part_section


def border_note(crossover: Crossover, rate_hz: int) -> str:
    """What a linear-phase border costs, and what an overlap does to the sum."""
    said = []
    frequency, slope = crossover.frequency_hz, crossover.slope_db_per_octave
    if crossover.kind == "linear-phase":
        count = tap_count(frequency, slope, rate_hz)
        rings = ringing_ms(frequency, slope)
        said.append(f"{count} taps; rings {rings:.1f} ms before and after, down to −60 dB. Its delay is taken back.")
    if crossover.overlap_octaves > 0.0:
        (made,) = borders_of((crossover,), rate_hz)
        at = np.geomspace(frequency / 4.0, min(4.0 * frequency, 0.45 * rate_hz), 400)
        total = made.edge_low.response(at, rate_hz) + made.edge_high.response(at, rate_hz)
        ripple = worst_ripple(total, at, float(at[0]), float(at[-1]))
        said.append(f"The overlap costs {ripple.deviation_db:+.1f} dB of ripple at {ripple.frequency_hz:.0f} Hz.")
    return " ".join(said)


def _crossover_fields(crossover: Crossover) -> tuple[Field, ...]:
    """Its frequency stops short of its neighbours': that has an edit of its own."""
    frequency, *others = fields_of(crossover, f"crossovers/{crossover.id}")
    moves = {"op": "move-crossover", "crossover": crossover.id}
    return (replace(frequency, edit=moves, name="frequency_hz"), *others)


def piece_sections(stack: Stack) -> tuple[Section, ...]:
    """Everything of the piece."""
    key = choice_field("key", "Key", stack.key, [(name, name) for name in KEYS])
    fields = tuple(
        replace(field, edit={"op": "set-bars"}, name="bars") if field.path == "bars" else field
        for field in fields_of(stack, "", without=("target",))
    )
    children = tuple(
        Section(
            f"Crossover {index + 1}",
            _crossover_fields(crossover),
            (Action("Remove", {"op": "remove-crossover", "crossover": crossover.id}, danger=True),),
            note=border_note(crossover, stack.sample_rate),
            key=crossover_key(crossover.id),
        )
        for index, crossover in enumerate(stack.crossovers)
    )
    top = stack.crossovers[-1].frequency_hz if stack.crossovers else 60.0
    add = (Action("Add a crossover", {"op": "add-crossover", "frequency_hz": round(min(top * 2.0, 15000.0), 1)}),)
    if len(stack.crossovers) >= 7 or top > 7000.0:
        add = ()
    longer = (
        (Action("As many bars again, empty", {"op": "set-bars", "bars": 2 * stack.bars, "empty": True}),)
        if 2 * stack.bars <= MOST_BARS and not 0 < stack.pattern_bars < stack.bars
        else ()
    )
    shift = tuple(
        Action(f"{name}", {"op": "transpose", "semitones": step})
        for name, step in (("Octave down", -12), ("Semitone down", -1), ("Semitone up", 1), ("Octave up", 12))
    )
    midi = Action("Read a MIDI file", upload="midi", accept=".mid,.midi")
    return (
        Section("Piece", (*fields[:2], key, *fields[2:]), longer, note="Bars that are added repeat what is there."),
        Section("Borders", (), add, children=children),
        replace(part_section(stack, stack.voice, "voice", "Voice"), line=None),
        Section(
            "Pattern",
            (),
            (midi, *shift),
            note=f"{len(stack.pattern)} notes. Double-click in the Passage adds one; drag tunes and moves it.",
        ),
    )
