"""The same music in another form: begun elsewhere, played twice, without what chance or the piece's length decides."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from apilado.core.document.equaliser import still_and_moving
from apilado.core.document.layer import Layer
from apilado.core.document.path import AnyStep, Aside, Bands, Equaliser, Split
from apilado.core.document.stack import Stack
from apilado.core.notes import Note
from apilado.core.sources.settings import Setting
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.treatments.bits import Bits
from apilado.core.treatments.carried import Carried
from apilado.core.treatments.phaser import Phaser
from apilado.core.treatments.pitch_shift import PitchShift
from apilado.core.treatments.roughness import Roughness
from apilado.core.treatments.swept_delay import SweptDelay

OF_THEIR_OWN = (Bits, Roughness, SweptDelay, Phaser, Carried, PitchShift)
"""What goes by a noise, a grid or a swing of its own, which begin where the loop begins, or is made as a whole."""


def on_whole_frames(stack: Stack) -> Stack:
    """The stack at the nearest tempo at which sixteenth notes last a whole number of frames."""
    frames = round(60.0 * stack.sample_rate / stack.tempo_bpm / 16.0) * 16
    return stack.model_copy(update={"tempo_bpm": 60.0 * stack.sample_rate / frames})


def without_chance(stack: Stack) -> Stack:
    """The stack with all phases fixed: free ones are drawn from a note's place in its list. And without what is
    OF_THEIR_OWN."""
    return _with_layers(without(stack, *OF_THEIR_OWN), _fixed)


def in_pieces(stack: Stack) -> Stack:
    """The stack without what can only be made as a whole."""
    return without(stack, PitchShift)


def without(stack: Stack, *kinds: type[Any]) -> Stack:
    """The stack without some kinds of steps, in chains too."""

    def still(path: tuple[Any, ...]) -> tuple[Any, ...]:
        kept = [step for step in path if not isinstance(step, kinds)]
        return tuple(_in_chains(step, still) for step in kept)

    buses = {name: getattr(stack, name) for name in ("bus", "shared")}
    stack = stack.model_copy(update={n: b.model_copy(update={"path": still(b.path)}) for n, b in buses.items()})
    return _with_layers(stack, lambda layer: layer.model_copy(update={"path": still(layer.path)}))


def _in_chains(step: Any, change: Callable[[tuple[Any, ...]], tuple[Any, ...]]) -> Any:
    """A step with its chains changed, if it has any."""
    if isinstance(step, Aside):
        return step.model_copy(update={"path": change(step.path)})
    if isinstance(step, Bands):
        bands = tuple(band.model_copy(update={"path": change(band.path)}) for band in step.bands)
        return step.model_copy(update={"bands": bands})
    return step


def _fixed(layer: Layer) -> Layer:
    if not isinstance(layer.source, ToneSource):
        return layer
    tones = tuple(
        tone.model_copy(update={"phase": "fixed", "shape": "saw" if tone.shape == "noise" else tone.shape})
        for tone in layer.source.tones
    )
    settings = tuple(_fixed_setting(each) for each in layer.source.settings)
    return layer.model_copy(update={"source": layer.source.model_copy(update={"tones": tones, "settings": settings})})


def _fixed_setting(setting: Setting) -> Setting:
    """A setting that frees no phase, and makes no noise."""
    fixed = {"free": "fixed", "noise": "saw"}
    values = tuple(
        v.model_copy(update={"value": fixed.get(v.value, v.value)}) if isinstance(v.value, str) else v
        for v in setting.values
    )
    return setting.model_copy(update={"values": values})


def rotated(stack: Stack, beats: float) -> Stack:
    """The same loop begun `beats` earlier in its round, where no take tells its start and no note slides over the seam."""

    def hits(drum: Any) -> Any:
        return drum.model_copy(
            update={"hits": tuple(sorted((hit + beats) % stack.beats for hit in drum.hits if hit < stack.beats))}
        )

    moved = _with_layers(stack, lambda layer: layer.model_copy(update={"notes": _moved(layer.notes, stack, beats)}))
    return moved.model_copy(
        update={
            "pattern": _moved(stack.pattern, stack, beats),
            "kick": hits(stack.kick),
            "triggers": tuple(hits(trigger) for trigger in stack.triggers),
        }
    )


def _moved(notes: tuple[Note, ...] | None, stack: Stack, beats: float) -> tuple[Note, ...] | None:
    if notes is None:
        return None
    inside = [note for note in notes if note.start_beats < stack.beats]
    moved = [n.model_copy(update={"start_beats": (n.start_beats + beats) % stack.beats}) for n in inside]
    return tuple(sorted(moved, key=lambda note: (note.start_beats, note.pitch)))


def begun_by_notes(stack: Stack) -> Stack:
    """The stack with the movements alone that notes and hits begin: they know nothing of where the loop begins."""
    kept = tuple(m for m in stack.movements if m.shape.follows() is not None or m.begins in ("note", "hit"))
    return stack.model_copy(update={"movements": kept})


def without_slides(stack: Stack) -> Stack:
    """The stack with every note on an attack of its own."""

    def plain(notes: tuple[Note, ...] | None) -> tuple[Note, ...] | None:
        return None if notes is None else tuple(note.model_copy(update={"slide": False}) for note in notes)

    def anew(layer: Layer) -> Layer:
        voice = layer.voice and layer.voice.model_copy(update={"mode": "retrigger"})
        return layer.model_copy(update={"notes": plain(layer.notes), "voice": voice})

    return _with_layers(stack, anew).model_copy(update={"pattern": plain(stack.pattern)})


def without_slides_over_the_seam(stack: Stack) -> Stack:
    """The stack with an attack of its own for the first note of every round, which in a longer piece might slide."""

    def plain(notes: tuple[Note, ...] | None) -> tuple[Note, ...] | None:
        first = min((note.start_beats for note in notes), default=0.0) if notes else 0.0
        return notes and tuple(
            note.model_copy(update={"slide": note.slide and note.start_beats > first}) for note in notes
        )

    def marked(voice: Any) -> Any:
        return voice and (voice.model_copy(update={"mode": "slides"}) if voice.mode == "legato" else voice)

    made = _with_layers(
        stack, lambda layer: layer.model_copy(update={"notes": plain(layer.notes), "voice": marked(layer.voice)})
    )
    return made.model_copy(update={"pattern": plain(stack.pattern), "voice": marked(stack.voice)})


def without_takes(stack: Stack) -> Stack:
    """The stack with tones in place of its takes."""
    return _with_layers(
        stack,
        lambda layer: (
            layer.model_copy(update={"source": ToneSource()}) if isinstance(layer.source, TakeSource) else layer
        ),
    )


def twice(stack: Stack) -> Stack:
    """The stack with as many bars again, in which the same is played."""

    def again(notes: tuple[Note, ...] | None) -> tuple[Note, ...] | None:
        if notes is None:
            return None
        inside = [note for note in notes if note.start_beats < stack.beats]
        return (*inside, *[n.model_copy(update={"start_beats": n.start_beats + stack.beats}) for n in inside])

    def hits(drum: Any) -> Any:
        inside = tuple(hit for hit in drum.hits if hit < stack.beats)
        return drum.model_copy(update={"hits": (*inside, *[hit + stack.beats for hit in inside])})

    moved = _with_layers(stack, lambda layer: layer.model_copy(update={"notes": again(layer.notes)}))
    return moved.model_copy(
        update={
            "bars": 2 * stack.bars,
            "pattern": again(stack.pattern),
            "kick": hits(stack.kick),
            "triggers": tuple(hits(trigger) for trigger in stack.triggers),
        }
    )


def _linear(path: tuple[AnyStep, ...]) -> tuple[AnyStep, ...]:
    """The split of a path, its EQs with the points that stand still, its bands with nothing in them."""
    kept: list[AnyStep] = []
    for step in path:
        if isinstance(step, Split):
            kept.append(step)
        elif isinstance(step, Equaliser):
            points, _ = still_and_moving(step.points)
            kept.append(step.model_copy(update={"points": points, "phase": "minimum-phase"}))
        elif isinstance(step, Bands):
            bare = tuple(band.model_copy(update={"path": ()}) for band in step.bands)
            kept.append(step.model_copy(update={"bands": bare, "phase": "minimum-phase"}))
    return tuple(kept)


def linear(stack: Stack) -> Stack:
    """The stack with nothing that answers to level or to a drum, and no linear phase: what is left adds up note by note."""
    layers = _with_layers(
        stack,
        lambda layer: layer.model_copy(
            update={
                "path": _linear(layer.path),
                "source": _still_source(layer.source),
                "mono_below_hz": 0.0,
            }
        ),
    )
    crossovers = tuple(c.model_copy(update={"kind": "minimum-phase"}) for c in stack.crossovers)
    bus = stack.bus.model_copy(
        update={
            "path": _linear(stack.bus.path),
            "mono_below_hz": 0.0,
            "limiter": stack.bus.limiter.model_copy(update={"on": False}),
        }
    )
    shared = stack.shared.model_copy(update={"on": False})
    return layers.model_copy(
        update={"crossovers": crossovers, "bus": bus, "shared": shared, "duckers": (), "pairs": (), "movements": ()}
    )


def _still_source(source: Any) -> Any:
    """A source whose filters neither drive nor follow the notes."""
    filters = [each.model_copy(update={"drive_db": 0.0, "follow": 0.0}) for each in source.own_filters()]
    return source.model_copy(update={"filters": tuple(filters)}) if filters else source


def _with_layers(stack: Stack, change: Any) -> Stack:
    return stack.model_copy(update={"layers": tuple(change(layer) for layer in stack.layers)})
