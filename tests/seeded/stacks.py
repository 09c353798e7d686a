"""Seeded random stacks: every kind of part, odd tempi, all rates. What is true of stacks is tried on these.

`seeded_stack(seed)` is a whole document with all it needs; `seeds(n)` says which seeds a test goes through: a few in the
suite, all that are asked for when the environment variable APILADO_SEEDS says how many times as many (`make sweep`).
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import Any

import numpy as np
from pydantic import BaseModel

from apilado.core.assets import AssetLoader
from apilado.core.document.backing import BackingTrack
from apilado.core.document.carving import CarvePair
from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import POINTS, KeyedBell
from apilado.core.document.kick import Kick, SampleKick, SynthKick, Trigger
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import AnyStep, Aside, Bands, ChainedBand, Container, Equaliser, Points, Split
from apilado.core.document.stack import Bus, Crossover, Limiter, SharedBus, Space, Stack
from apilado.core.notes import Note
from apilado.core.parameters import parameters_of
from apilado.core.shapes.registry import DUCK_SHAPES
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.sample import SampleSource
from apilado.core.sources.settings import Setting, kept_values
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import DrawnCycle, Modulation, Tone
from apilado.core.treatments.delay import Delay
from apilado.core.treatments.filter import Filter
from apilado.core.treatments.keyed import Keyed
from apilado.core.treatments.multiband import DynamicBand, Multiband
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.treatments.reverb import Reverb
from tests.seeded.moving import drawn_movements
from tests.support import RATES, loader, sha256, wav

TIMES = max(1, int(os.environ.get("APILADO_SEEDS", "1")))


def seeds(count: int, first: int = 0) -> Iterator[int]:
    """The seeds that a test goes through."""
    return iter(range(first, first + count * TIMES))


class Dice:
    """Random choices from one seed."""

    def __init__(self, seed: int) -> None:
        self.random = np.random.default_rng([1976, seed])

    def one_in(self, n: int) -> bool:
        return bool(self.random.integers(n) == 0)

    def of(self, options: Any) -> Any:
        return options[int(self.random.integers(len(options)))]

    def between(self, low: float, high: float, digits: int = 2) -> float:
        return round(float(self.random.uniform(low, high)), digits)

    def hz(self, low: float, high: float) -> float:
        return round(float(np.exp(self.random.uniform(np.log(low), np.log(high)))), 1)

    def whole(self, low: int, high: int) -> int:
        return int(self.random.integers(low, high + 1))

    def part(self, model: type[BaseModel], **fixed: Any) -> Any:
        """A model with every declared parameter drawn from its range, but for those given."""
        values: dict[str, Any] = {}
        for p in parameters_of(model):
            if p.name in fixed or p.kind in ("text", "numbers", "reference"):
                continue
            if p.kind == "number":
                values[p.name] = self.hz(p.low, p.high) if p.scale == "log" else self.between(p.low, p.high)
                values[p.name] = min(p.high, max(p.low, values[p.name]))
            elif p.kind == "integer":
                values[p.name] = self.whole(int(p.low), int(p.high))
            elif p.kind == "choice":
                values[p.name] = self.of([value for value, _ in p.choices])
            else:
                values[p.name] = not self.one_in(4) if p.name == "on" else self.one_in(3)
        return model(**{**values, **fixed})


def seeded_stack(seed: int, **changes: Any) -> tuple[Stack, AssetLoader]:
    """A stack of 1 to 4 seconds with every kind of part in it sooner or later; and the loader of its assets."""
    dice = Dice(seed)
    rate, tempo = dice.of(RATES), dice.between(70.0, 200.0, 1)
    beats_per_bar = dice.whole(2, 5)
    bars = max(1, min(2, int(3.5 * tempo / 60.0 / beats_per_bar)))
    beats = bars * beats_per_bar
    take = wav(_take(dice, beats * 60.0 / tempo), dice.of(RATES))
    files = {sha256(take): take}
    crossovers = _crossovers(dice)
    layers = _layers(dice, Dice(seed + 10_000), Dice(seed + 30_000), len(crossovers), sha256(take), beats)
    sound = SampleKick(asset=sha256(take), length_ms=dice.between(40.0, 400.0)) if dice.one_in(4) else _kick(dice)
    triggers = (Trigger(id="second", mute=dice.one_in(2), sound=_kick(dice), hits=_hits(dice, beats)),)
    parts = {
        "name": f"Seed {seed}",
        "tempo_bpm": tempo,
        "beats_per_bar": beats_per_bar,
        "bars": bars,
        "sample_rate": rate,
        "seed": seed,
        "pattern": _pattern(dice, beats),
        "kick": Kick(
            sound=sound,
            level_db=dice.between(-18.0, 0.0),
            offset_ms=dice.of((0.0, 0.0, 1.37, 6.0)),
            polarity=dice.of(("normal", "inverted")),
            attack_db=dice.of((0.0, 6.0)),
            clip_db=dice.of((0.0, 6.0)),
            eq=Points(points=_points(dice, keyed=False)),
            hits=_hits(dice, beats),
        ),
        "triggers": triggers if dice.one_in(3) else (),
        "crossovers": crossovers,
        "layers": layers,
        "bus": Bus(
            path=(_eq(dice), *_treatments(dice, 3)),
            level_db=dice.between(-12.0, 3.0),
            mono_below_hz=dice.of((0.0, 0.0, 120.0)),
            limiter=Limiter(on=dice.one_in(2), ceiling_db=dice.between(-12.0, -1.0)),
        ),
        "shared": SharedBus(on=dice.one_in(4), path=_treatments(dice, 4), limiter=Limiter(on=dice.one_in(2))),
        "duckers": _duckers(dice, layers),
    }
    parts |= _space(parts, Dice(seed + 40_000))
    parts["backing"] = _backing(Dice(seed + 50_000), sha256(take), beats, tempo)
    layers = parts["layers"]
    if len(layers) > 1 and dice.one_in(3):
        parts["pairs"] = (CarvePair(id="pair", dip=f"layers/{layers[0].id}/path/eq", lift="kick/eq"),)
    stack, mover = Stack.model_validate({**parts, **changes}), Dice(seed + 20_000)
    if "movements" not in changes and mover.one_in(3):
        stack = Stack.model_validate({**stack.model_dump(), "movements": drawn_movements(mover, stack)})
    return stack, loader(files)


def _space(parts: dict[str, Any], dice: Dice) -> dict[str, Any]:
    """Sends to the space and its path, in one stack of four."""
    if not dice.one_in(4):
        return {}
    room = Reverb(
        decay_s=dice.between(0.1, 0.8), size_m=dice.between(2.0, 12.0), low_cut_hz=dice.of((0.0, 150.0)), blend=1.0
    )
    echoes = Delay(left_ms=dice.between(1.0, 300.0), right_ms=dice.between(1.0, 300.0), feedback=dice.between(0.0, 0.5))

    def sending(part: Any) -> Any:
        return part.model_copy(update={"send": dice.between(0.0, 1.0)}) if dice.one_in(2) else part

    return {
        "layers": tuple(map(sending, parts["layers"])),
        "bus": sending(parts["bus"]),
        "kick": sending(parts["kick"]),
        "space": Space(path=dice.of(((room,), (echoes, room), (room, _eq(dice)))), level_db=dice.between(-24.0, 0.0)),
    }


def _backing(dice: Dice, asset: str, beats: int, tempo: float) -> tuple[BackingTrack, ...]:
    """A backing track or two in one stack of three: once or again and again, stretched or not, counting or not."""
    if not dice.one_in(3):
        return ()
    return tuple(
        BackingTrack(
            id=f"back-{number}",
            mute=dice.one_in(4),
            counts=dice.one_in(2),
            sound=TakeSource(
                asset=asset,
                start_beats=dice.between(0.0, beats - 0.5),
                every_beats=dice.of((0.0, 1.0, 2.0)),
                skip_ms=dice.of((0.0, 120.0)),
                gain_db=dice.between(-24.0, 0.0),
                own_bpm=dice.of((0.0, 0.0, round(tempo * 1.3, 1))),
            ),
        )
        for number in range(dice.whole(1, 2))
    )


def _take(dice: Dice, seconds: float) -> np.ndarray:
    """Falling harmonics over noise, as long as the piece or not."""
    t = np.arange(int(dice.between(0.5, 1.3) * seconds * 48000)) / 48000
    f0, fall = dice.hz(40.0, 110.0), dice.between(0.2, 2.0)
    wave = sum(np.sin(2 * np.pi * n * f0 * t + n) / n for n in range(1, 12)) * np.exp(-t / fall)
    sides = [wave + 0.02 * dice.random.standard_normal(t.shape) for _ in range(2)]
    return (0.3 * np.stack(sides)).astype(np.float32)


def _pattern(dice: Dice, beats: int) -> tuple[Note, ...]:
    notes, at = [], dice.of((0.0, 0.0, 0.25, 0.5))
    while at < beats:
        length = dice.of((0.2, 0.45, 0.9, 1.5, 3.0))
        notes.append(
            Note(
                start_beats=at,
                length_beats=length,
                pitch=dice.whole(26, 43),
                velocity=dice.of((60, 100, 127)),
                slide=bool(notes) and dice.one_in(5),
            )
        )
        at = round(at + dice.of((0.25, 0.5, 0.75, 1.0, 2.0)), 4)
    return tuple(notes)


def _hits(dice: Dice, beats: int) -> tuple[float, ...]:
    if dice.one_in(6):
        return ()
    return (
        tuple(float(b) for b in range(beats))
        if dice.one_in(2)
        else tuple(b / 4 for b in range(beats * 4) if dice.one_in(4))
    )


def _kick(dice: Dice) -> SynthKick:
    return SynthKick(
        start_hz=dice.hz(120.0, 600.0),
        end_hz=dice.hz(35.0, 90.0),
        sweep_ms=dice.between(20.0, 200.0),
        decay_ms=dice.between(60.0, 900.0),
        click=dice.between(0.0, 1.0),
        drive_db=dice.between(0.0, 24.0),
    )


def _crossovers(dice: Dice) -> tuple[Crossover, ...]:
    found, at = [], dice.hz(70.0, 160.0)
    for _ in range(dice.of((0, 1, 1, 2, 2, 3))):
        found.append(
            Crossover(
                frequency_hz=round(at, 1),
                slope_db_per_octave=dice.of((12, 24, 24, 48)),
                kind=dice.of(("minimum-phase", "minimum-phase", "linear-phase")),
                overlap_octaves=dice.of((0.0, 0.0, 0.0, 0.5)),
            )
        )
        at *= dice.between(2.0, 6.0)
    return tuple(found)


def _tone(dice: Dice) -> tuple[ToneSource, Voice]:
    tones = tuple(
        Tone(
            shape=dice.of(("sine", "triangle", "saw", "square", "pulse")),
            octave=dice.of((-1, 0, 0, 0, 1, 2)),
            semitones=dice.of((0, 0, 0, 7)),
            cents=dice.of((0.0, 0.0, 4.0)),
            copies=dice.of((1, 1, 1, 2, 5)),
            detune_cents=dice.between(2.0, 25.0),
            spread=dice.between(0.0, 1.0),
            phase=dice.of(("fixed", "fixed", "free")),
            start_phase_deg=dice.between(0.0, 359.0, 1),
            level_db=dice.between(-12.0, 0.0),
            harmonics=dice.of(((), (), (1.0, 0.0, 0.3), (0.0, None, 0.5))),
        )
        for _ in range(dice.of((1, 1, 2)))
    )
    tones = _more_waves(dice, tones)
    envelope = Envelope(
        attack_ms=dice.hz(0.5, 60.0),
        decay_ms=dice.hz(40.0, 900.0),
        sustain=dice.between(0.0, 1.0),
        release_ms=dice.hz(5.0, 500.0),
    )
    voice = Voice(envelope=envelope, glide_ms=dice.between(0.0, 200.0))
    source = ToneSource(
        tones=tones,
        drop_semitones=dice.of((0.0, 0.0, 12.0, 24.0)),
        drop_ms=dice.between(20.0, 250.0),
        velocity=dice.between(0.0, 1.0),
    )
    return source, voice


def _more_waves(dice: Dice, tones: tuple[Tone, ...]) -> tuple[Tone, ...]:
    """The waves, now and then with one before them that modulates the first, feedback, or noise beside them."""
    first, *others = tones
    if dice.one_in(4):
        index = dice.between(0.2, 4.0)
        own = Envelope(decay_ms=dice.hz(40.0, 900.0), sustain=dice.of((0.0, 0.5))) if dice.one_in(2) else None
        pusher = Tone(
            shape=dice.of(("sine", "sine", "saw")),
            tuning="ratio",
            ratio_to_note=dice.of((1.0, 2.0, 3.0, 1.41)),
            into=(Modulation(wave=first.id, index=index),),
            envelope=own,
        )
        return (pusher, *tones)
    if dice.one_in(6):
        return (first.model_copy(update={"feedback": dice.between(0.2, 1.5)}), *others)
    if dice.one_in(6):
        return (*tones, Tone(shape="noise", level_db=dice.between(-40.0, -20.0), spread=dice.between(0.0, 1.0)))
    return tones


def _textured(dice: Dice, source: ToneSource) -> ToneSource:
    """A tone, now and then with filters, of which its last wave goes past, a table, sync or phase distortion."""
    *others, last = source.tones
    changes: dict[str, Any] = {}
    if last.shape != "noise" and dice.one_in(3):
        cycles = tuple(DrawnCycle(harmonics=(1.0, dice.between(0.0, 0.8), dice.between(0.0, 0.5))) for _ in range(3))
        changes = dice.of(
            (
                {"shape": "table", "table": cycles, "position": dice.between(0.0, 1.0)},
                {"sync": dice.between(1.0, 6.0)},
                {"bend": dice.between(0.0, 1.0)},
                {"sync": dice.between(1.0, 3.0), "bend": dice.between(0.0, 0.8)},
            )
        )
    if others and not last.pushes() and dice.one_in(4):
        changes["on"] = False if dice.one_in(3) and any(tone.heard() for tone in others) else last.on
        changes["filtered"] = dice.one_in(2)
    filters: tuple[Any, ...] = ()
    if dice.one_in(3):
        filters = tuple(dice.part(Filter, resonance=dice.between(0.0, 0.8)) for _ in range(dice.whole(1, 2)))
    standing = dice.of(("in a row", "side by side"))
    tones = (*others, last.model_copy(update=changes))
    settings: tuple[Setting, ...] = ()
    if dice.one_in(5):
        louder = tuple(
            tone.model_copy(
                update={"level_db": dice.between(-12.0, 0.0), "start_phase_deg": dice.between(0.0, 359.0, 1)}
            )
            for tone in tones
        )
        settings = (Setting(id="kept", values=kept_values(louder)),)
    return source.model_copy(
        update={
            "tones": tones,
            "filters": filters,
            "filters_stand": standing,
            "settings": settings,
            "at_setting": dice.of((0.0, 0.4, 1.0)),
        }
    )


def _sampled(dice: Dice, take: str) -> SampleSource:
    """A sample in any of the ways in which it can be played."""
    found: SampleSource = dice.part(
        SampleSource,
        asset=take,
        file_name="take.wav",
        root=dice.whole(30, 42),
        pitching=dice.of(("speed", "speed", "length", "none")),
        fits_beats=dice.of((0.0, 0.0, 0.0, 1.5)),
        start_ms=dice.between(0.0, 300.0),
        end_ms=dice.of((0.0, 0.0, 700.0)),
        hold_at_ms=dice.between(0.0, 400.0),
        slices_ms=(0.0, 120.0, 300.0, 450.0),
        gain_db=dice.between(-12.0, 0.0),
        pitch_st=dice.of((0.0, 0.0, 3.0)),
        plays_out=dice.one_in(4),
    )
    return found


def _layers(dice: Dice, more: Dice, textures: Dice, borders: int, take: str, beats: int) -> tuple[Layer, ...]:
    layers: list[Layer] = []
    spans = [(band, band) for band in range(borders + 1)]
    if borders and dice.one_in(3):
        spans = [(0, 1), *spans[2:]]
    if dice.one_in(3):
        spans.append((borders, borders))
    for number, (first, last) in enumerate(spans):
        kind = dice.of(("tone", "tone", "take", "child", "child") if layers else ("tone", "tone", "tone", "take"))
        source: Any
        source, voice = _tone(dice)
        source = _textured(textures, source)
        if kind == "take":
            source = TakeSource(asset=take, start_beats=dice.of((0.0, 0.5)), gain_db=dice.between(-12.0, 0.0))
            source = _sampled(textures, take) if textures.one_in(2) else source
        elif kind == "child":
            parent = dice.of(layers)
            source = LayerSound(layer=parent.id, tap=dice.of(("source", "source", "treated")))
        layers.append(
            Layer(
                id=f"l{number}",
                name=f"part {number}",
                source=source,
                voice=_own_voice(voice, more) if kind == "tone" else None,
                span=Span(first=first, last=last),
                path=_path(dice, more),
                level_db=dice.between(-18.0, 0.0),
                mute=dice.one_in(12),
                width=dice.of((1.0, 1.0, 0.3, 1.6)),
                pan=dice.of((0.0, 0.0, -0.4)),
                mono=dice.one_in(3),
                mono_below_hz=dice.of((0.0, 0.0, 200.0)),
                polarity=dice.of(("normal", "normal", "inverted")),
                delay_ms=dice.of((0.0, 0.0, 0.011, 1.7, 8.33)),
                transpose=dice.of((0, 0, 0, 12, -12, 7)),
                note_levels_db={33: dice.between(-6.0, 6.0)} if dice.one_in(3) else {},
                notes=_pattern(dice, beats) if dice.one_in(8) else None,
            )
        )
    return tuple(layers)


def _own_voice(voice: Voice, more: Dice) -> Voice | None:
    """The voice of a layer, or none of its own."""
    if more.one_in(6):
        return None
    return voice.model_copy(update={"mode": more.of(("slides", "slides", "slides", "legato", "retrigger"))})


def _path(dice: Dice, more: Dice) -> tuple[AnyStep, ...]:
    """The split somewhere, treatments, and an EQ at the end; now and then another among them."""
    split = dice.of(("before", "before", "after"))
    treatments, last = _treatments(dice, 3), _eq(dice)
    steps: list[Any] = list(treatments)
    if more.one_in(4):
        steps.insert(more.whole(0, len(steps)), Equaliser(points=_points(more)))
    place = more.whole(0, len(steps)) if more.one_in(4) else len(steps) if split == "after" else 0
    return (*steps[:place], Split(), *steps[place:], last)


def _eq(dice: Dice) -> Equaliser:
    points = _points(dice)
    return Equaliser(id="eq", points=points, phase=dice.of(("minimum-phase", "minimum-phase", "linear-phase")))


def _treatments(dice: Dice, one_in: int, *, contained: bool = False) -> tuple[Any, ...]:
    # About as many to a path however many kinds there are: of all of them together little is left of a sound.
    chosen = [model for model in TREATMENTS if dice.one_in(one_in * len(TREATMENTS) // 3)]
    made = [dice.part(model, **_drawn(dice, model)) for model in chosen]
    # Of those that can listen to something, some listen to the kick.
    steps = [
        step.model_copy(update={"key": "kick"}) if isinstance(step, Keyed) and dice.one_in(2) else step for step in made
    ]
    return tuple(steps) if contained or not dice.one_in(2 * one_in) else (*steps, _container(dice))


def _drawn(dice: Dice, model: type[Any]) -> dict[str, Any]:
    """What is drawn otherwise than between the ends of its range: bands, and echoes that are heard for minutes."""
    if model is Delay:
        return {"feedback": dice.between(0.0, 0.6), "left_ms": dice.hz(1.0, 400.0), "right_ms": dice.hz(1.0, 400.0)}
    return {"bands": _bands(dice, DynamicBand)} if model is Multiband else {}


def _container(dice: Dice) -> Container:
    """Bands with a chain in some of them, or a parallel chain."""
    if dice.one_in(2):
        path = (*_treatments(dice, 2, contained=True), *((_eq(dice),) if dice.one_in(3) else ()))
        return Aside(level_db=dice.between(-24.0, 0.0), align=dice.one_in(2), path=path, on=not dice.one_in(4))
    bands = tuple(
        band.model_copy(update={"level_db": dice.between(-9.0, 6.0), "path": _treatments(dice, 2, contained=True)})
        for band in _bands(dice, ChainedBand)
    )
    return dice.part(Bands, bands=bands)


def _bands(dice: Dice, kind: type[Any]) -> tuple[Any, ...]:
    """Two to four bands, an octave apart or more."""
    count, at, found = dice.whole(2, 4), dice.hz(60.0, 400.0), []
    for number in range(count):
        found.append(dice.part(kind, id=f"band{number}", from_hz=round(at, 1)))
        at *= dice.between(2.0, 4.0) if number else 1.0
    return tuple(found)


def _points(dice: Dice, *, keyed: bool = True) -> tuple[Any, ...]:
    found = []
    for model in POINTS:
        if not dice.one_in(5) or (model is KeyedBell and not keyed):
            continue
        names = {p.name for p in parameters_of(model)}
        gentle = {"gain_db": dice.between(-9.0, 9.0)} if "gain_db" in names else {}
        found.append(dice.part(model, **gentle))
    return tuple(found)


def _duckers(dice: Dice, layers: tuple[Layer, ...]) -> tuple[Ducker, ...]:
    found = []
    for number, model in enumerate(DUCK_SHAPES):
        if dice.one_in(2):
            found.append(
                Ducker(
                    id=f"duck-{number}",
                    shape=dice.part(model),
                    reach=dice.of(("all", "all", "below", "around")),
                    frequency_hz=dice.hz(60.0, 2000.0),
                    width_octaves=dice.between(0.5, 3.0, 1),
                    amounts={layer.id: dice.between(0.0, 1.0) for layer in layers if dice.one_in(2)},
                )
            )
    return tuple(found)
