"""What the sheet shows for a selection: sections of fields, each built from a parameter's declaration."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from pydantic import BaseModel

from apilado.core.document.equaliser import MOST_POINTS, POINTS, Point
from apilado.core.document.kick import KICK_SOUNDS
from apilado.core.document.layer import Layer
from apilado.core.document.stack import KEYS, Crossover, Stack, borders_of
from apilado.core.dsp.linear_phase import ringing_ms, tap_count
from apilado.core.measure.flatness import worst_ripple
from apilado.core.parameters import Parameter, parameters_of
from apilado.core.render.graph import source_root
from apilado.core.sources.registry import SOURCES
from apilado.core.sources.tone import MOST_HARMONICS, ToneSource
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.units import midi_to_hz, midi_to_name
from apilado.web.items import hit_of, note_of


@dataclass(frozen=True)
class Field:
    """One control: where its value lies, how it is declared, what it is now."""

    path: str
    parameter: Parameter
    value: Any


@dataclass(frozen=True)
class Action:
    """A button that does an edit, or opens a file for one."""

    label: str
    edit: dict[str, Any] | None = None
    upload: str | None = None
    accept: str = ""
    danger: bool = False


@dataclass(frozen=True)
class Section:
    """A titled group of fields and actions."""

    title: str
    fields: tuple[Field, ...] = ()
    actions: tuple[Action, ...] = ()
    folded: bool = False
    note: str = ""
    key: str = ""
    children: tuple[Section, ...] = field(default=())


AUDIO_ACCEPT = ".wav,.aif,.aiff,.flac,.ogg,.mp3"


def sheet_sections(stack: Stack, selected: str, item: str = "") -> tuple[str, tuple[Section, ...]]:
    """(what is shown, its sections), a chosen note or hit first; a selection that is gone shows the piece."""
    name, sections = _selected_sections(stack, selected)
    return name, (*_item_sections(stack, item), *sections)


def _item_sections(stack: Stack, item: str) -> tuple[Section, ...]:
    note, hit = note_of(stack, item), hit_of(stack, item)
    if note is not None:
        remove = {"op": "note", "was": note.model_dump(mode="json"), "now": None}
        title = f"Note {midi_to_name(note.pitch)}, {midi_to_hz(float(note.pitch)):.1f} Hz"
        return (Section(title, fields_of(note, item), (Action("Remove note", remove, danger=True),)),)
    if hit is not None:
        remove = {"op": "hit", "was": hit, "now": None}
        beat = Parameter("beat", "number", "Beat", hit, unit="beats", low=0.0, high=stack.beats, step=0.25)
        return (Section("Hit", (Field(f"{item}/beat", beat, hit),), (Action("Remove hit", remove, danger=True),)),)
    return ()


def _selected_sections(stack: Stack, selected: str) -> tuple[str, tuple[Section, ...]]:
    kind, _, name = selected.partition(":")
    layer = stack.layer(name) if kind == "layer" else None
    if layer is not None:
        return selected, _layer_sections(stack, layer)
    if kind == "sub":
        return kind, ()
    shown = {"kick": _kick_sections, "duck": _duck_sections, "bus": _bus_sections}.get(kind)
    if shown is not None:
        return kind, shown(stack)
    return "piece", _piece_sections(stack)


def fields_of(model: BaseModel, path: str, *names: str, without: tuple[str, ...] = ()) -> tuple[Field, ...]:
    """The fields of a model at a path: those named, or all but some."""
    return tuple(
        Field(f"{path}/{p.name}" if path else p.name, p, getattr(model, p.name))
        for p in parameters_of(type(model))
        if (p.name in names if names else p.name not in without)
    )


def _choice(path: str, name: str, value: Any, options: list[tuple[Any, str]]) -> Field:
    return Field(path, Parameter(name, "choice", name, value, choices=tuple(options)), value)


def _layer_sections(stack: Stack, layer: Layer) -> tuple[Section, ...]:
    path = f"layers/{layer.id}"
    return (
        Section(
            "Place", fields_of(layer, path, "level_db", "width", "pan", "mono", "mono_below_hz", "polarity", "delay_ms")
        ),
        _band_section(stack, layer, path),
        _source_section(stack, layer, path),
        _treatments_section("Treatments", path, layer.treatments),
        _eq_section(path, layer.eq),
        Section("Duck", fields_of(layer, path, "duck_amount")),
        Section(
            "Layer",
            fields_of(layer, path, "name", "tint", "transpose"),
            (
                Action("Copy layer", {"op": "add-layer", "copy_of": layer.id}),
                *_merges(stack, layer),
                Action("Remove layer", {"op": "remove-layer", "layer": layer.id}, danger=True),
                *(
                    (Action("Clear note levels", {"op": "set", "path": f"{path}/note_levels_db", "value": {}}),)
                    if layer.note_levels_db
                    else ()
                ),
            ),
            note=_note_levels(layer),
        ),
    )


def _note_levels(layer: Layer) -> str:
    if not layer.note_levels_db:
        return ""
    levels = layer.note_levels_db.values()
    return f"{len(layer.note_levels_db)} pitches have levels of their own, {min(levels):+.1f} to {max(levels):+.1f} dB."


def band_names(stack: Stack) -> list[str]:
    """The bands as ranges of frequency."""
    edges = ["20", *[f"{c.frequency_hz:.0f}" for c in stack.crossovers], "20k"]
    return [f"{low}–{high} Hz" for low, high in itertools.pairwise(edges)]


def _band_section(stack: Stack, layer: Layer, path: str) -> Section:
    names = band_names(stack)
    options: list[tuple[Any, str]] = [
        (
            f"{first},{last}",
            names[first] if first == last else f"{names[first].split('–')[0]}–{names[last].split('–')[1]}",
        )
        for first in range(len(names))
        for last in range(first, len(names))
    ]
    span = _choice(f"{path}/span", "Band", f"{layer.span.first},{layer.span.last}", options)
    return Section("Band", (span, *fields_of(layer, path, "split")))


def _source_section(stack: Stack, layer: Layer, path: str) -> Section:
    source = layer.source
    kinds = [(model.model_fields["kind"].default, model.label) for model in SOURCES]
    actions = [Action("Use an audio file", upload=layer.id, accept=AUDIO_ACCEPT)]
    children: list[Section] = []
    if isinstance(source, ToneSource):
        for index, tone in enumerate(source.tones):
            tone_path = f"{path}/source/tones/{index}"
            harmonics = ", ".join("" if level is None else f"{level:g}" for level in tone.harmonics)
            listed = Parameter(
                "harmonics",
                "text",
                "Harmonics",
                "",
                help=f"Levels of 1, 2, 3 … up to {MOST_HARMONICS}; blank keeps the shape's",
            )
            drop = {"op": "remove", "path": tone_path}
            children.append(
                Section(
                    f"Tone {index + 1}",
                    (*fields_of(tone, tone_path), Field(f"{tone_path}/harmonics", listed, harmonics)),
                    (Action("Remove tone", drop, danger=True),) if len(source.tones) > 1 else (),
                    folded=index > 0,
                )
            )
        children.append(Section("Envelope", fields_of(source.envelope, f"{path}/source/envelope"), folded=True))
        if len(source.tones) < 4:
            actions.append(Action("Add a tone", {"op": "add", "path": f"{path}/source/tones", "part": {}}))
    own = fields_of(source, f"{path}/source", without=("layer", "file_name"))
    if source.kind == "layer":
        others = [(other.id, other.name) for other in stack.layers if other.id != layer.id]
        own = (_choice(f"{path}/source/layer", "Layer", source.layer, others), *own)
    note = f"File: {source.file_name}" if source.kind == "take" else ""
    return Section(
        "Source",
        (_choice(f"{path}/source!kind", "Source", source.kind, kinds), *own),
        tuple(actions),
        children=tuple(children),
        note=note,
    )


def _part_actions(path: str, index: int, count: int) -> tuple[Action, ...]:
    actions = []
    if index > 0:
        actions.append(Action("Earlier", {"op": "move", "path": f"{path}/{index}", "to": index - 1}))
    if index + 1 < count:
        actions.append(Action("Later", {"op": "move", "path": f"{path}/{index}", "to": index + 1}))
    return (*actions, Action("Remove", {"op": "remove", "path": f"{path}/{index}"}, danger=True))


def _treatments_section(title: str, owner: str, treatments: tuple[Treatment, ...]) -> Section:
    path = f"{owner}/treatments"
    children = tuple(
        Section(t.label, fields_of(t, f"{path}/{i}"), _part_actions(path, i, len(treatments)))
        for i, t in enumerate(treatments)
    )
    adds = tuple(
        Action(
            f"Add {model.label.lower()}",
            {"op": "add", "path": path, "part": {"kind": model.model_fields["kind"].default}},
        )
        for model in TREATMENTS
    )
    return Section(title, (), adds, children=children)


def _eq_section(owner: str, members: tuple[Point, ...]) -> Section:
    path = f"{owner}/eq"
    starts = {"high-pass": 35.0, "low-shelf": 120.0, "bell": 300.0, "high-shelf": 4000.0, "low-pass": 12000.0}
    children = tuple(
        Section(
            f"{point.label} {index + 1}",
            fields_of(point, f"{path}/{index}"),
            (Action("Remove", {"op": "remove", "path": f"{path}/{index}"}, danger=True),),
            key=f"point:{path}/{index}",
        )
        for index, point in enumerate(members)
    )
    adds = ()
    if len(members) < MOST_POINTS:
        adds = tuple(
            Action(
                f"Add {model.label.lower()}",
                {"op": "add", "path": path, "part": {"kind": kind, "frequency_hz": starts.get(kind, 1000.0)}},
            )
            for model in POINTS
            for kind in [model.model_fields["kind"].default]
        )
    return Section("EQ", (), adds, children=children, note="Or double-click in the Profile, and pull.")


def _kick_sections(stack: Stack) -> tuple[Section, ...]:
    sound = stack.kick.sound
    note = f"File: {sound.file_name}" if sound.kind == "sample" else ""
    actions = [Action("Use an audio file", upload="kick", accept=AUDIO_ACCEPT)]
    if sound.kind != "synth":
        actions.append(Action("Synthesise it", {"op": "set-kick-sound", "sound": {"kind": "synth"}}))
    every = [float(beat) for beat in range(int(stack.beats))]
    hits = (
        Action("On every beat", {"op": "set", "path": "kick/hits", "value": every}),
        Action("None", {"op": "set", "path": "kick/hits", "value": []}),
    )
    label = next(model.label for model in KICK_SOUNDS if isinstance(sound, model))
    count = len([hit for hit in stack.kick.hits if hit < stack.beats])
    return (
        Section("Kick", fields_of(stack.kick, "kick")),
        Section(
            f"Sound: {label.lower()}", fields_of(sound, "kick/sound", without=("file_name",)), tuple(actions), note=note
        ),
        Section(
            "Hits",
            (),
            hits,
            note=f"{count} hits. Double-click in the Time strip adds one; drag moves it; Delete removes it.",
        ),
    )


def _duck_sections(stack: Stack) -> tuple[Section, ...]:
    options: list[tuple[Any, str]] = [("kick", "Kick"), *[(t.id, t.name) for t in stack.triggers]]
    duck = fields_of(stack.duck, "duck")
    amounts = tuple(
        Field(
            f"layers/{layer.id}/duck_amount",
            Parameter(layer.name, "number", layer.name, 1.0, low=0.0, high=1.0, help="Share of the duck's depth"),
            layer.duck_amount,
        )
        for layer in stack.layers
    )
    number = len(stack.triggers) + 1
    part = {"id": f"trigger-{number}", "name": f"Silent trigger {number}", "hits": list(stack.kick.hits)}
    taken = {t.id for t in stack.triggers}
    add = (Action("Add a silent trigger", {"op": "add", "path": "triggers", "part": part}),)
    if len(stack.triggers) >= 8 or part["id"] in taken:
        add = ()
    triggers = tuple(
        Section(
            t.name,
            (
                *fields_of(t, f"triggers/{t.id}"),
                Field(
                    f"triggers/{t.id}/hits",
                    Parameter("hits", "text", "Hits", "", help="Beats from 0, with commas"),
                    ", ".join(f"{hit:g}" for hit in t.hits),
                ),
            ),
            (Action("Remove", {"op": "remove", "path": f"triggers/{t.id}"}, danger=True),)
            if stack.duck.trigger != t.id
            else (),
        )
        for t in stack.triggers
    )
    return (
        Section("Duck", (duck[0], _choice("duck/trigger", "Trigger", stack.duck.trigger, options), *duck[1:])),
        Section("Share of each layer", amounts),
        Section(
            "Silent triggers",
            (),
            add,
            children=triggers,
            note="Hits that duck the bass with the kick's sound, unheard.",
        ),
    )


def _bus_sections(stack: Stack) -> tuple[Section, ...]:
    return (
        Section("Bus", fields_of(stack.bus, "bus")),
        _eq_section("bus", stack.bus.eq),
        _treatments_section("Treatments", "bus", stack.bus.treatments),
        Section("Limiter", fields_of(stack.bus.limiter, "bus/limiter")),
    )


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


def _merges(stack: Stack, layer: Layer) -> tuple[Action, ...]:
    """Its upper neighbours of the same source, to be merged into it."""
    root = source_root(stack, layer).id
    return tuple(
        Action(f"Merge with {other.name}", {"op": "merge-layers", "layer": layer.id, "upper": other.id})
        for other in stack.layers
        if other.span.first == layer.span.last + 1 and source_root(stack, other).id == root
    )


def _piece_sections(stack: Stack) -> tuple[Section, ...]:
    key = _choice("key", "Key", stack.key, [(name, name) for name in KEYS])
    fields = fields_of(stack, "")
    children = tuple(
        Section(
            f"Crossover {index + 1}",
            fields_of(crossover, f"crossovers/{index}"),
            (Action("Remove", {"op": "remove-crossover", "index": index}, danger=True),),
            note=border_note(crossover, stack.sample_rate),
            key=f"crossover:{index}",
        )
        for index, crossover in enumerate(stack.crossovers)
    )
    top = stack.crossovers[-1].frequency_hz if stack.crossovers else 60.0
    add = (Action("Add a crossover", {"op": "add-crossover", "frequency_hz": round(min(top * 2.0, 15000.0), 1)}),)
    if len(stack.crossovers) >= 7 or top > 7000.0:
        add = ()
    shift = tuple(
        Action(f"{name}", {"op": "transpose", "semitones": step})
        for name, step in (("Octave down", -12), ("Semitone down", -1), ("Semitone up", 1), ("Octave up", 12))
    )
    midi = Action("Read a MIDI file", upload="midi", accept=".mid,.midi")
    return (
        Section("Piece", (*fields[:2], key, *fields[2:])),
        Section("Borders", (), add, children=children),
        Section(
            "Pattern",
            (),
            (midi, *shift),
            note=f"{len(stack.pattern)} notes. Double-click in the Passage adds one; drag tunes and moves it.",
        ),
    )
