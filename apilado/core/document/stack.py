"""The stack: everything audible, in one document."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Annotated, ClassVar, Literal

from pydantic import Field, field_validator, model_validator

from apilado.core.document.addresses import find, joined, owner_of, parted, reaches, repeated
from apilado.core.document.backing import MOST_BACKING, BackingTrack
from apilado.core.document.carving import FROM_PIECE, MOST_PAIRS, CarvePair, Reference, TargetName
from apilado.core.document.declarations import parameter_at, refused_in_section, still_because
from apilado.core.document.ducker import MOST_DUCKERS, Ducker
from apilado.core.document.equaliser import Point
from apilado.core.document.kick import Drum, Kick, Trigger
from apilado.core.document.layer import MOST_NOTES, Layer
from apilado.core.document.movement import MOST_MOVEMENTS, Movement
from apilado.core.document.path import (
    MOST_STEPS,
    AnyBusStep,
    AnyStep,
    Equaliser,
    Points,
    eqs_in,
    every_step,
    every_treatment,
)
from apilado.core.document.section import MOST_SECTIONS, PieceSection, sectioned_hits, sectioned_notes
from apilado.core.dsp.crossovers import CLOSEST_BORDERS, HIGHEST_BORDER_HZ, LOWEST_BORDER_HZ, Border, border
from apilado.core.identity import ByIdentity
from apilado.core.notes import Note, again, in_order
from apilado.core.parameters import Model, choice, group, integer, number, parts, send_number, switch, text
from apilado.core.parts import Part
from apilado.core.sources.base import Chance
from apilado.core.sources.voice import Voice
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.reverb import Reverb

FORMAT = "apilado-stack"
VERSION = 7
MOST_BARS = 64
MOST_LAYERS = 12
MOST_TRIGGERS = 8
BUSES = ("bus", "space", "shared")
"""What layers and drums go through together, in the order of its sound."""
SampleRate = Literal[44100, 48000, 96000]
LONGEST_SECONDS = 180.0

KEYS = tuple(
    f"{root} {mode}"
    for mode in ("minor", "major")
    for root in ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
)


def shifted_key(key: str, semitones: int) -> str:
    """A key moved by semitones."""
    place = KEYS.index(key)
    return KEYS[place // 12 * 12 + (place + semitones) % 12]


def keys_apart(from_key: str, to_key: str) -> int:
    """By how many semitones something in a key is moved to lie in another, from −6 to 5; 0 where a key is not known."""
    if from_key not in KEYS or to_key not in KEYS:
        return 0
    apart = KEYS.index(to_key) % 12 - KEYS.index(from_key) % 12
    return (apart + 6) % 12 - 6


_PLAYED = ByIdentity(16)
"""The notes of stacks, which every layer asks for."""
_EQUALISERS = ByIdentity(16)
"""The EQs of stacks by their addresses."""


class Crossover(Part):
    """A border between two bands."""

    label: ClassVar[str] = "Crossover"

    frequency_hz: Annotated[
        float,
        number(low=LOWEST_BORDER_HZ, high=HIGHEST_BORDER_HZ, step=0.1, scale="log", unit="Hz", label="Frequency"),
    ] = 120.0
    slope_db_per_octave: Annotated[Literal[12, 24, 48], choice(label="Slope", unit="dB/oct")] = 24
    kind: Annotated[
        Literal["minimum-phase", "linear-phase"],
        choice(label="Kind", help="Linear phase turns no phase, and rings before as well as after"),
    ] = "minimum-phase"
    overlap_octaves: Annotated[
        float, number(low=0.0, high=1.0, step=0.05, unit="oct", label="Overlap", help="How far the two edges are apart")
    ] = 0.0


def borders_of(crossovers: tuple[Crossover, ...], rate_hz: int) -> tuple[Border, ...]:
    """The filters of the crossovers at a rate."""
    return tuple(
        border(c.frequency_hz, c.slope_db_per_octave, rate_hz, kind=c.kind, overlap_octaves=c.overlap_octaves)
        for c in crossovers
    )


class Limiter(Model):
    """The last stage of the bus."""

    reduces: ClassVar[bool] = True
    """It takes gain, which is measured."""

    on: Annotated[bool, switch(label="Limiter")] = True
    ceiling_db: Annotated[float, number(low=-24.0, high=0.0, step=0.1, unit="dB", label="Ceiling", moves=True)] = -1.0
    release_ms: Annotated[float, number(low=5.0, high=1000.0, step=1.0, scale="log", unit="ms", label="Release")] = 80.0


class Bus(Model):
    """What all layers go through together."""

    path: tuple[AnyBusStep, ...] = parts("step", most=MOST_STEPS, ordered=True, begin=lambda: (Equaliser(),))
    level_db: Annotated[float, number(low=-60.0, high=12.0, step=0.1, unit="dB", label="Level", moves=True)] = 0.0
    mono_below_hz: Annotated[
        float,
        number(
            low=0.0,
            high=500.0,
            step=1.0,
            unit="Hz",
            label="Mono below",
            help="Everything below is mono; 0 is off",
            moves=True,
        ),
    ] = 0.0
    limiter: Limiter = Limiter()
    send: Annotated[float, send_number("What lies below the lowest border is not sent")] = 0.0


class Space(Model):
    """One room for all: what layers, the bus and drums send to it goes along its path and is heard beside the bass."""

    path: tuple[AnyBusStep, ...] = parts(
        "step", most=MOST_STEPS, ordered=True, begin=lambda: (Reverb(id="room", blend=1.0, decay_s=1.6),)
    )
    level_db: Annotated[float, number(low=-60.0, high=12.0, step=0.1, unit="dB", label="Level", moves=True)] = 0.0
    mute: Annotated[bool, switch(label="Mute")] = False


class SharedBus(Model):
    """What bass and kick go through together, if it is on."""

    on: Annotated[bool, switch(label="On")] = False
    path: tuple[AnyBusStep, ...] = parts("step", most=MOST_STEPS, ordered=True, begin=lambda: (Equaliser(),))
    level_db: Annotated[float, number(low=-60.0, high=12.0, step=0.1, unit="dB", label="Level", moves=True)] = 0.0
    limiter: Limiter = Limiter(on=False)


class LimitOverride(Model):
    """A sounding's limits, changed for this stack with a reason."""

    look: float | None = None
    fault: float | None = None
    reason: str = Field(min_length=1, max_length=200)


class Stack(Model):
    """A whole stack. Validation says where in it something is wrong."""

    format: Literal["apilado-stack"] = "apilado-stack"
    version: Literal[7] = 7
    name: Annotated[str, text(label="Name")] = "New stack"
    tempo_bpm: Annotated[float, number(low=40.0, high=240.0, step=0.1, unit="bpm", label="Tempo")] = 126.0
    beats_per_bar: Annotated[int, integer(low=1, high=16, label="Beats per bar")] = 4
    bars: Annotated[int, integer(low=1, high=MOST_BARS, label="Bars")] = 4
    key: str = Field(default="F minor", json_schema_extra={"enum": list(KEYS)})
    sample_rate: Annotated[SampleRate, choice(label="Sample rate", unit="Hz")] = 48000
    seed: Annotated[int, integer(low=0, high=2**31 - 1, label="Seed")] = 1
    chance: Annotated[
        Chance,
        choice(
            label="Free phases",
            names={"place": "by a note's place", "order": "by a note's number"},
            help="By its place, a note keeps its phase when others come or go",
        ),
    ] = "place"
    pattern_bars: Annotated[
        int,
        integer(
            low=0,
            high=MOST_BARS,
            label="Pattern",
            unit="bars",
            help="After so many bars the notes begin again; 0: they are as long as the piece",
        ),
    ] = 0
    voice: Voice = group(Voice, label="Voice")
    pattern: tuple[Note, ...] = Field(default=(), max_length=MOST_NOTES)
    kick: Kick = Kick()
    triggers: tuple[Trigger, ...] = parts("trigger", most=MOST_TRIGGERS)
    backing: tuple[BackingTrack, ...] = parts("backing track", most=MOST_BACKING)
    crossovers: tuple[Crossover, ...] = Field(default=(), max_length=7)
    layers: tuple[Layer, ...] = Field(default=(), max_length=MOST_LAYERS)
    bus: Bus = Field(default_factory=Bus)
    space: Space = Field(default_factory=Space)
    shared: SharedBus = Field(default_factory=SharedBus)
    duckers: tuple[Ducker, ...] = parts("duck", most=MOST_DUCKERS, begin=lambda: (Ducker(id="duck"),))
    pairs: tuple[CarvePair, ...] = parts("carve pair", most=MOST_PAIRS)
    movements: tuple[Movement, ...] = parts("movement", most=MOST_MOVEMENTS)
    sections: tuple[PieceSection, ...] = parts("section", most=MOST_SECTIONS)
    target: Annotated[TargetName, choice(label="Target")] = "clean lower mids"
    reference: Reference | None = None
    limits: dict[str, LimitOverride] = Field(default={}, max_length=64)

    _in_order = field_validator("pattern")(in_order)

    @property
    def beats(self) -> float:
        """Length of the loop."""
        return float(self.bars * self.beats_per_bar)

    @property
    def pattern_beats(self) -> float:
        """After how many beats the notes begin again."""
        return float(self.pattern_bars * self.beats_per_bar) or self.beats

    def played(self, notes: tuple[Note, ...] | None = None) -> tuple[Note, ...]:
        """Notes as they are played over the piece; if none are given the stack's pattern, or what a section plays."""
        if notes is None:
            counted = (self.pattern_bars, self.bars, self.beats_per_bar)
            return _PLAYED.get(self._with_sections, self.pattern, self.sections, beside=counted)
        return again(notes, self.pattern_beats, self.beats) if self.pattern_bars else notes

    def _with_sections(self) -> tuple[Note, ...]:
        return sectioned_notes(self.played(self.pattern), self.sections, self.beats_per_bar)

    def hits(self, drum: str) -> tuple[float, ...]:
        """The beats that the kick, or the trigger of that id, hits on within the piece, in its sections too.

        Raises:
            KeyError: there is no such drum.
        """
        found = sectioned_hits(drum, self.drum(drum).hits, self.sections, self.beats_per_bar)
        return tuple(hit for hit in found if hit < self.beats)

    def layer(self, layer_id: str) -> Layer | None:
        """The layer of that id, or None."""
        return next((layer for layer in self.layers if layer.id == layer_id), None)

    def crossover_path(self, index: int) -> str:
        """The address of a crossover, counted from the lowest."""
        return joined("crossovers", self.crossovers[index].id if index < len(self.crossovers) else "")

    def audible_layers(self) -> tuple[Layer, ...]:
        """The layers that are heard: those that are not muted, or not in every section."""
        return tuple(layer for layer in self.layers if self.sounds(f"layers/{layer.id}"))

    def sounds(self, owner: str) -> bool:
        """Whether a layer or a drum is heard anywhere in the piece: in some bar it is not muted."""
        muted, mute = joined(owner, "mute"), bool(getattr(find(self, owner), "mute", False))
        other = [s for s in self.sections if any(c.path == muted and bool(c.value) != mute for c in s.changes)]
        return bool(other) if mute else sum(s.last_bar - s.first_bar + 1 for s in other) < self.bars

    def drum(self, name: str) -> Drum:
        """The kick, or the trigger of that id.

        Raises:
            KeyError: there is none.
        """
        if name == "kick":
            return self.kick
        found = next((trigger for trigger in self.triggers if trigger.id == name), None)
        if found is None:
            raise KeyError(name)
        return found

    @staticmethod
    def drum_owner(name: str) -> str:
        """The path of a drum, as carve pairs and EQs name it."""
        return name if name == "kick" else f"triggers/{name}"

    def drum_names(self) -> dict[str, str]:
        """How the drums are called, by what a ducker names them."""
        return {"kick": "Kick", **{trigger.id: trigger.name for trigger in self.triggers}}

    def ducker(self, ducker_id: str) -> Ducker | None:
        """The ducker of that id, or None."""
        return next((ducker for ducker in self.duckers if ducker.id == ducker_id), None)

    def hits_of(self, ducker: Ducker) -> tuple[float, ...]:
        """The hits within the loop that a ducker follows."""
        return ducker.hits_of(self.hits(ducker.trigger), self.beats_per_bar)

    def owners(self) -> tuple[str, ...]:
        """The addresses of all that can have an EQ: layers, buses, drums."""
        layers = [f"layers/{layer.id}" for layer in self.layers]
        return (*layers, *BUSES, *map(self.drum_owner, self.drum_names()))

    def senders(self) -> tuple[str, ...]:
        """The addresses of the layers, the drums and the bus that send to the space, be it now and then."""
        moved = {target.path for movement in self.movements for target in movement.targets}
        moved |= {change.path for section in self.sections for change in section.changes}
        there = {owner: float(getattr(find(self, owner), "send", 0.0)) for owner in self.owners()}
        return tuple(owner for owner, send in there.items() if send > 0.0 or joined(owner, "send") in moved)

    def eqs_of(self, owner: str) -> dict[str, Points]:
        """The EQs of a part by their addresses in the order of its path, not those in containers; a drum has one."""
        holder = find(self, owner)
        if isinstance(holder, Drum):
            return {joined(owner, "eq"): holder.eq}
        return {joined(owner, "path", eq.id): eq for eq in eqs_in(holder.path)}

    def steps_of(self, owner: str) -> dict[str, AnyStep]:
        """Every step of the path of a layer or a bus by its address, those in its containers too; a drum has none."""
        return dict(every_step(owner, getattr(find(self, owner), "path", ())))

    def treatments(self, owner: str) -> Iterator[tuple[str, Treatment]]:
        """(address, treatment) of each treatment of a layer or a bus: the filters of its source, those of its path and
        of its containers; a drum has none."""
        holder = find(self, owner)
        for each in holder.source.own_filters() if isinstance(holder, Layer) else ():
            yield joined(owner, "source", "filters", each.id), each
        yield from every_treatment(owner, getattr(holder, "path", ()))

    def equalisers(self) -> Mapping[str, Points]:
        """Every EQ of the stack by its address, those in containers too."""
        found: Mapping[str, Points] = _EQUALISERS.get(self._equalisers, self)
        return found

    def _equalisers(self) -> dict[str, Points]:
        found: dict[str, Points] = {}
        for owner in self.owners():
            steps = {address: step for address, step in self.steps_of(owner).items() if isinstance(step, Equaliser)}
            found.update(steps or self.eqs_of(owner))
        return found

    def last_eq(self, owner: str) -> str | None:
        """The address of the EQ of a part that stands last; None where it has none."""
        return next(reversed(self.eqs_of(owner)), None)

    def points_of(self, eq: str) -> tuple[Point, ...]:
        """The points of the EQ at an address as it sounds: its own, then those of carve pairs; none where it is off."""
        found = find(self, eq)
        if isinstance(found, Equaliser) and not found.on:
            return ()
        paired = [pair.point_for(eq) for pair in self.pairs]
        return (*found.points, *[point for point in paired if point is not None])

    def all_points(self, owner: str) -> tuple[Point, ...]:
        """The points of all EQs of a part, as they sound."""
        return tuple(point for eq in self.eqs_of(owner) for point in self.points_of(eq))

    def owner_name(self, path: str) -> str:
        """How the layer, bus or drum is called that something at an address belongs to."""
        owner = owner_of(path)
        return str(getattr(find(self, owner), "name", parted(owner)[1]))

    def asset_hashes(self) -> tuple[str, ...]:
        """The SHA-256 of every asset the stack needs, each once, in order of appearance."""
        needed = [sha for layer in self.layers for sha in layer.source.asset_hashes()]
        needed += [sha for layer in self.layers for kept in layer.frozen for sha in (kept.loop, kept.one_pass)]
        needed += [sha for drum in (self.kick, *self.triggers) for sha in drum.sound.asset_hashes()]
        needed += [sha for owner in self.owners() for _, step in self.treatments(owner) for sha in step.asset_hashes()]
        needed += [sha for track in self.backing for sha in track.sound.asset_hashes()]
        needed += [self.reference.asset] if self.reference else []
        return tuple(dict.fromkeys(needed))

    @model_validator(mode="after")
    def _whole(self) -> Stack:
        if self.key not in KEYS:
            raise ValueError(f"key: '{self.key}' is none of C minor … B major")
        seconds = self.beats * 60.0 / self.tempo_bpm
        if seconds > LONGEST_SECONDS:
            raise ValueError(
                f"bars: {self.bars} bars at {self.tempo_bpm:g} bpm last {seconds:.0f} s; "
                f"the most is {LONGEST_SECONDS:.0f} s"
            )
        for index, (lower, upper) in enumerate(zip(self.crossovers, self.crossovers[1:], strict=False)):
            if upper.frequency_hz < lower.frequency_hz * CLOSEST_BORDERS * (1.0 - 1e-9):
                raise ValueError(
                    f"crossovers/{index + 1}: {upper.frequency_hz:g} Hz must lie at least a third of an octave above "
                    f"crossover {index} at {lower.frequency_hz:g} Hz"
                )
        for path in repeated(self):
            raise ValueError(f"{path}: the id appears twice")
        self._check_layers()
        self._check_triggers()
        self._check_settings()
        self._check_pairs()
        self._check_movements()
        self._check_keys()
        self._check_sections()
        if self.target == FROM_PIECE and self.reference is None:
            raise ValueError("target: there is no finished piece to take it from; bring one first")
        return self

    def _check_triggers(self) -> None:
        names = self.drum_names()
        for ducker in self.duckers:
            if ducker.trigger not in names:
                raise ValueError(f"duckers/{ducker.id}/trigger: there is no trigger '{ducker.trigger}'")
            for layer_id in ducker.amounts:
                if self.layer(layer_id) is None:
                    raise ValueError(f"duckers/{ducker.id}/amounts: there is no layer '{layer_id}'")
        drums = {self.drum_owner(name) for name in names}
        for address, eq in self.equalisers().items():
            for point in eq.points:
                where, followed = joined(address, "points", point.id), point.follows()
                if followed is None:
                    continue
                if followed not in names:
                    raise ValueError(f"{where}/trigger: there is no trigger '{followed}'")
                if owner_of(address) in drums:
                    raise ValueError(f"{where}: a drum has no keyed bell; one hit has nothing to follow")

    def _check_keys(self) -> None:
        names = self.drum_names()
        for owner in self.owners():
            for address, step in self.treatments(owner):
                followed = step.follows()
                if followed is not None and followed not in names and find(self, followed) not in self.layers:
                    raise ValueError(f"{address}/key: there is no sound '{followed}' to listen to")

    def _check_settings(self) -> None:
        for layer in self.layers:
            for setting in layer.source.versions()[0]:
                for each in setting.values:
                    declared = parameter_at(layer.source, each.place)
                    if declared is None:
                        continue
                    try:
                        declared.parsed(list(each.value) if isinstance(each.value, tuple) else each.value)
                    except ValueError as error:
                        where = f"layers/{layer.id}/source/settings/{setting.id}"
                        raise ValueError(f"{where}: {each.place} {error}") from None

    def _check_pairs(self) -> None:
        there = self.equalisers()
        for pair in self.pairs:
            if owner_of(pair.dip) == owner_of(pair.lift):
                raise ValueError(f"pairs/{pair.id}: it dips and lifts in different places, not both in '{pair.dip}'")
            for eq in (pair.dip, pair.lift):
                if eq not in there:
                    raise ValueError(f"pairs/{pair.id}: there is no EQ at '{eq}'")

    def _check_movements(self) -> None:
        names = self.drum_names()
        for movement in self.movements:
            for followed in (movement.trigger, movement.shape.follows()):
                if followed is not None and followed not in names and find(self, followed) not in self.layers:
                    raise ValueError(f"movements/{movement.id}: there is no sound '{followed}' to follow")
            if movement.trigger not in names:
                raise ValueError(f"movements/{movement.id}: there is no trigger '{movement.trigger}'")
            if movement.begins == "section" and find(self, joined("sections", movement.section)) is None:
                raise ValueError(f"movements/{movement.id}: there is no section '{movement.section}' to begin with")
            for target in movement.targets:
                where = f"movements/{movement.id}/targets/{target.id}"
                if not reaches(self, target.path):
                    raise ValueError(f"{where}: there is nothing at '{target.path}'")
                refused = still_because(self, target.path)
                if refused:
                    raise ValueError(f"{where}: '{target.path}' does not move: {refused}")

    def _check_sections(self) -> None:
        taken: dict[int, str] = {}
        for section in self.sections:
            where = f"sections/{section.id}"
            for bar in range(section.first_bar, section.last_bar + 1):
                if bar in taken:
                    raise ValueError(f"{where}: bar {bar} is in '{taken[bar]}' already; sections do not overlap")
                taken[bar] = section.name
            if section.last_bar > self.bars:
                raise ValueError(f"{where}: bar {section.last_bar} lies behind the last of {self.bars} bars")
            for change in section.changes:
                refused = refused_in_section(self, change.path, change.value)
                if refused:
                    raise ValueError(f"{where}/changes/{change.id}: {refused}")
            for other in section.hits:
                if other.drum not in self.drum_names():
                    raise ValueError(f"{where}/hits: there is no trigger '{other.drum}'")

    def _check_layers(self) -> None:
        for layer in self.layers:
            where = f"layers/{layer.id}"
            if layer.span.last > len(self.crossovers):
                raise ValueError(
                    f"{where}/span: band {layer.span.last} does not exist; {len(self.crossovers)} crossovers make "
                    f"bands 0 to {len(self.crossovers)}"
                )
            seen = [layer.id]
            followed = layer.source.follows()
            while followed is not None:
                if followed in seen:
                    raise ValueError(f"{where}/source: takes its own sound, by way of {' → '.join(seen)}")
                parent = self.layer(followed)
                if parent is None:
                    raise ValueError(f"{where}/source: there is no layer '{followed}'")
                seen.append(parent.id)
                followed = parent.source.follows()
