"""Notes, hits, sections and movements as MIDI files of a delivery."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from apilado.actions.delivery_plan import DeliveryOptions, Stretch, named
from apilado.core.assets import AssetLoader
from apilado.core.document.declarations import parameter_at
from apilado.core.document.naming import place_name
from apilado.core.document.stack import Stack
from apilado.core.formats.midi_files import CURVES_PER_BEAT, FIRST_CONTROLLER, MOST_CONTROLLERS, Controller, write_midi
from apilado.core.render.builder import Builder
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import clock_of


def midi_names(stack: Stack, options: DeliveryOptions, state: int = 0) -> dict[str, str]:
    """The names of the MIDI files that are wanted, by what is in them: 'notes', 'movements'."""
    whole, plain = Stretch("whole", 1, stack.bars), options.model_copy(update={"sections": "together"})
    wanted = {"notes": options.notes, "movements": options.curves and bool(moved_in(stack))}
    return {what: f"{named(stack, plain, what, 1, whole, state)}.mid" for what, is_so in wanted.items() if is_so}


def midi_files(
    stack: Stack, load: AssetLoader, engine: Engine, options: DeliveryOptions, state: int, token: Token | None = None
) -> Iterator[tuple[str, bytes]]:
    """(name, content) of each MIDI file that is wanted.

    Raises:
        Overtaken: it is to stop.
    """
    names = midi_names(stack, options, state)
    if "notes" in names:
        yield names["notes"], notes_file(stack)
    if "movements" in names:
        given = {"tempo_bpm": stack.tempo_bpm, "beats_per_bar": stack.beats_per_bar, "name": stack.name}
        yield names["movements"], write_midi((), **given, controllers=controllers(stack, load, engine, token))


def notes_file(stack: Stack) -> bytes:
    """The pattern as it is played, the hits of each drum, the sections as markers."""
    drums = {shown: stack.hits(name) for name, shown in stack.drum_names().items()}
    markers = {float((each.first_bar - 1) * stack.beats_per_bar): each.name for each in stack.sections}
    given = {"tempo_bpm": stack.tempo_bpm, "beats_per_bar": stack.beats_per_bar, "name": stack.name}
    return write_midi(stack.played(), **given, drums=drums, markers=markers)


def moved_in(stack: Stack) -> list[str]:
    """The addresses of what movements move."""
    return sorted({target.path for each in stack.movements if each.on for target in each.targets})


def controllers(stack: Stack, load: AssetLoader, engine: Engine, token: Token | None = None) -> tuple[Controller, ...]:
    """What movements move, as controller curves: where each value is on its slider, 0 to 127.

    Raises:
        Overtaken: it is to stop.
    """
    clock, found = clock_of(stack, looped=True), []
    moves = Builder(stack, clock, load).moves
    at = np.linspace(0.0, clock.frames, round(stack.beats * CURVES_PER_BEAT), endpoint=False)
    for path in moved_in(stack)[:MOST_CONTROLLERS]:
        parameter = parameter_at(stack, path)
        if parameter is None:
            continue
        (curve,) = engine.run([moves.curve(path)], token)
        values = np.interp(at, curve.at, curve.values)
        steps = tuple(round(127.0 * min(1.0, max(0.0, parameter.share(float(each))))) for each in values)
        found.append(Controller(place_name(stack, path), FIRST_CONTROLLER + len(found), steps))
    return tuple(found)
