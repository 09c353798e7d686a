"""Make room: proposals from the room map, each tried out before it is offered.

A proposal is a gentle, broad point, a carve pair, or a bell that opens only while a drum sounds. What it would change
is not predicted but rendered and measured: how much the two parts still have in common, and how loud each is then.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.document.addresses import parted
from apilado.core.document.editing import Edit
from apilado.core.document.edits import AnyEdit, Several, apply
from apilado.core.document.stack import Stack
from apilado.core.measure.loudness import measure_loudness
from apilado.core.measure.passage import energy_grid, grid_columns
from apilado.core.measure.room_map import RoomMap, centre_of, room_map
from apilado.core.render.graph import Graph, build
from apilado.core.render.stage import Stage, stage
from apilado.core.soundings.asked import stem_stage
from apilado.core.soundings.balance import MUD_MIDDLE_HZ, mud_excess
from apilado.core.soundings.carving import bell_edit, keyed_bell_edit, pair_edit
from apilado.core.soundings.measures import Measures, counted_backing
from apilado.core.soundings.registry import limits_of

MOST_PROPOSALS = 4
DRUM_SHARE = 0.12
"""A drum that loses more than this share of its energy to a layer needs room."""
NEIGHBOUR_SHARE = 0.45
LOUDEST_CHANGE_LU = 1.3
"""A point with which a part would be further from its loudness before any proposal is made gentler."""
DIP_DB, LIFT_DB, KEYED_DB, NEIGHBOUR_DB = 4.0, 1.0, 9.0, 3.0
LEAST_DB = 1.0
BROAD_Q = 1.2
GENTLER = 0.75
LEAST_WON = 0.01
THIRD_OCTAVE = 1.0 / 3.0
BORDER_OCTAVES = 0.5
"""What neighbours share this near their border is the business of the border."""


@dataclass(frozen=True)
class Proposal:
    """One change, and what it does when it is made."""

    title: str
    sentence: str
    frequency_hz: float
    part: str
    other: str
    before: float
    """Share of the part's energy that lies where and when the other has as much, 0 to 1."""
    after: float
    loudness_lu: tuple[tuple[str, float], ...]
    """How the loudness of each part it touches changes."""
    edit: Edit


@dataclass(frozen=True)
class _Clash:
    """Two parts that want the same place: `other` is to give way to `part`."""

    part: str
    other: str
    asked: tuple[str, str]
    """Whose energy is in the way of whose: of the first, the share that lies where the second has as much."""
    share: float
    common: NDArray[np.float64]
    kind: str


@dataclass(frozen=True, eq=False)
class _Trial:
    """A stack's room map and the loudness of its parts."""

    room: RoomMap
    loudness: dict[str, float]


class _Workshop:
    def __init__(self, measures: Measures, check: Callable[[], None]) -> None:
        self.measures, self.stack, self.check = measures, measures.stack, check
        self.clock = measures.clock
        self.layers = tuple(f"layers/{layer.id}" for layer in self.stack.audible_layers())
        self.drums = tuple(self.stack.drum_owner(name) for name in measures.heard_drums)
        self.backing = counted_backing(self.stack)
        self._loudness: dict[str, float] = {}

    def stage_of(self, graph: Graph, owner: str) -> Stage:
        holder, name = parted(owner)
        if owner in graph.backing:
            return graph.backing[owner]
        return graph.layers[name] if holder == "layers" else graph.drums[name]

    def trial(self, stack: Stack, owners: Sequence[str]) -> _Trial:
        """The parts of a stack as they would sound; what has not changed comes from the cache."""
        graph = build(stack, self.clock, self.measures.load)
        columns, rate = grid_columns(self.clock.beats), self.clock.rate_hz
        grids, loudness = {}, {}
        for owner in owners:
            self.check()
            sound = self.stage_of(graph, owner)
            run: Callable[[Stage], Any] = self.measures.run
            grids[owner] = run(stage(energy_grid, sound, stem_stage(sound, self.clock), columns=columns))
            loudness[owner] = run(stage(measure_loudness, sound, rate_hz=rate, looped=True)).integrated_lkfs
        return _Trial(room_map(grids), loudness)

    def keeps_loudness(self, after: _Trial) -> bool:
        """Whether no part of a trial is further from what it was before any proposal than is allowed."""
        for owner, loudness in after.loudness.items():
            if owner not in self._loudness:
                self._loudness.update(self.trial(self.stack, (owner,)).loudness)
            if abs(loudness - self._loudness[owner]) > LOUDEST_CHANGE_LU:
                return False
        return True

    def clashes(self) -> list[_Clash]:
        """Where drums and layers, or neighbours, want the same place, the worst first."""
        room, found = self.measures.room, []
        for other in (*self.drums, *self.backing):
            kind = "drum" if other in self.drums else "backing"
            for layer in self.layers:
                share = room.share(other, layer)
                if share > DRUM_SHARE:
                    found.append(_Clash(other, layer, (other, layer), share, room.common(other, layer), kind))
        found.sort(key=lambda clash: -clash.share)
        return found + sorted(self._neighbours(), key=lambda clash: -clash.share)

    def _neighbours(self) -> list[_Clash]:
        room, found = self.measures.room, []
        centres = np.log2(room.centres_hz)
        away = np.ones(centres.shape, bool)
        for crossover in self.stack.crossovers:
            away &= np.abs(centres - np.log2(crossover.frequency_hz)) > BORDER_OCTAVES
        for index, lower in enumerate(self.layers):
            for upper in self.layers[index + 1 :]:
                common = np.where(away, room.common(lower, upper), 0.0)
                small, large = sorted((lower, upper), key=lambda name: float(np.sum(room.of(name))))
                own = float(np.sum(np.mean(room.of(small), axis=1)))
                share = float(np.sum(common)) / own if own > 1e-9 else 0.0
                if share > NEIGHBOUR_SHARE:
                    band = int(np.argmax(common))
                    # The one to which this place matters less, of all that it has, gives way.
                    less, more = sorted((lower, upper), key=lambda name: _weight(room, name, band))
                    found.append(_Clash(more, less, (small, large), share, common, "layers"))
        return found

    def edit_for(self, stack: Stack, clash: _Clash, gain_db: float, *, keyed: bool) -> Edit | None:
        hertz = centre_of(clash.common)
        if keyed:
            return keyed_bell_edit(stack, clash.other, parted(clash.part)[1], hertz, gain_db)
        if clash.kind == "backing":  # it is as it is: only the layer gives way
            return bell_edit(stack, clash.other, hertz, -round(gain_db, 1), BROAD_Q)
        lift = round(LIFT_DB * gain_db / DIP_DB, 1)
        return pair_edit(stack, clash.other, clash.part, hertz, dip_db=round(gain_db, 1), lift_db=lift, q=BROAD_Q)

    def tried(self, stack: Stack, clash: _Clash) -> Proposal | None:
        """The remedy that helps most of those that keep every part's loudness, or None if none helps."""
        owners = (clash.part, clash.other)
        before = self.trial(stack, owners)
        offers = [self._deepest(stack, clash, before, keyed=False)]
        if clash.kind == "drum" and (offers[0] is None or offers[0].before - offers[0].after < clash.share / 4.0):
            offers.append(self._deepest(stack, clash, before, keyed=True))
        helpful = [offer for offer in offers if offer is not None and offer.before - offer.after >= LEAST_WON]
        return min(helpful, key=lambda offer: offer.after, default=None)

    def _deepest(self, stack: Stack, clash: _Clash, before: _Trial, *, keyed: bool) -> Proposal | None:
        """One kind of remedy, as deep as keeps the loudness of both parts."""
        sub = self.measures.sub
        if not keyed and sub is not None and clash.other == f"layers/{sub.id}":
            return None  # what a sub owns it owns all the time: a point that stands still would be a hole
        gain = KEYED_DB if keyed else DIP_DB if clash.kind == "drum" else NEIGHBOUR_DB
        while gain >= LEAST_DB:
            edit = self.edit_for(stack, clash, gain, keyed=keyed)
            if edit is None:
                return None
            after = self.trial(apply(stack, edit), (clash.part, clash.other))
            if self.keeps_loudness(after):
                changes = loudness_changes(before, after)
                shares = before.room.share(*clash.asked), after.room.share(*clash.asked)
                return self._proposal(clash, edit, shares, changes, gain, keyed=keyed)
            gain *= GENTLER
        return None

    def _proposal(
        self,
        clash: _Clash,
        edit: Edit,
        shares: tuple[float, float],
        changes: tuple[tuple[str, float], ...],
        gain: float,
        *,
        keyed: bool,
    ) -> Proposal:
        hertz = centre_of(clash.common)
        part, other = (self.stack.owner_name(name) for name in (clash.part, clash.other))
        whose, where = (self.stack.owner_name(name) for name in clash.asked)
        if keyed:
            title = f"{other}: −{gain:.1f} dB at {hertz:.0f} Hz while {part} sounds"
        elif clash.kind == "backing":
            title = f"{other}: −{gain:.1f} dB at {hertz:.0f} Hz, for {part}, which is backing"
        else:
            title = f"{other}: −{gain:.1f} dB at {hertz:.0f} Hz, {part} +{LIFT_DB * gain / DIP_DB:.1f} dB"
        at = f"{hertz:.0f} Hz{self._of_the_drum(clash, hertz)}"
        sentence = f"{100 * shares[0]:.0f} % of {whose} lies where {where} has as much, most of it at {at}."
        named = tuple((self.stack.owner_name(name), change) for name, change in changes)
        return Proposal(title, sentence, hertz, whose, where, *shares, named, edit)

    def _of_the_drum(self, clash: _Clash, hertz: float) -> str:
        """What of a drum lies there, as its sound tells: its fundamental, or its punch."""
        if clash.kind != "drum":
            return ""
        facts = self.measures.drum_facts(parted(clash.part)[1])
        for found, word in ((facts.fundamental_hz, "fundamental"), (facts.punch_hz, "punch")):
            if found is not None and abs(float(np.log2(hertz / found))) < THIRD_OCTAVE:
                return f", its {word}"
        return ""

    def mud(self, stack: Stack) -> Proposal | None:
        """A dip at 250–400 Hz where they stand above what the target asks for."""
        excess, owner_layer = mud_excess(self.measures)
        allowed = limits_of(self.measures.stack, "mud").look
        if owner_layer is None or excess <= allowed:
            return None
        owner = f"layers/{owner_layer.id}"
        before = self.trial(stack, (owner,))
        gain = min(6.0, max(3.0, excess - allowed + 1.0))
        while gain >= LEAST_DB:
            edit = bell_edit(stack, owner, MUD_MIDDLE_HZ, -gain, BROAD_Q)
            if edit is None:
                return None
            after = self.trial(apply(stack, edit), (owner,))
            if self.keeps_loudness(after):
                changes = loudness_changes(before, after)
                return Proposal(
                    title=f"{owner_layer.name}: −{gain:.1f} dB at {MUD_MIDDLE_HZ:.0f} Hz",
                    sentence=f"250–400 Hz stand {excess:.1f} dB higher than '{stack.target}' asks for.",
                    frequency_hz=MUD_MIDDLE_HZ,
                    part=owner_layer.name,
                    other="250–400 Hz",
                    before=mud_share(before.room, owner),
                    after=mud_share(after.room, owner),
                    loudness_lu=((owner_layer.name, changes[0][1]),),
                    edit=edit,
                )
            gain *= GENTLER
        return None


def _weight(room: RoomMap, name: str, band: int) -> float:
    """How much of a part's energy lies in a band, 0 to 1."""
    power = np.mean(room.of(name), axis=1)
    return float(power[band] / max(float(np.sum(power)), 1e-12))


def loudness_changes(before: _Trial, after: _Trial) -> tuple[tuple[str, float], ...]:
    """By how much each part has become louder, in LU."""
    return tuple((name, after.loudness[name] - before.loudness[name]) for name in after.loudness)


def mud_share(room: RoomMap, owner: str) -> float:
    """How much of a part's energy lies from 250 to 400 Hz, 0 to 1."""
    power = np.mean(room.of(owner), axis=1)
    inside = (room.centres_hz > 240.0) & (room.centres_hz < 410.0)
    return float(np.sum(power[inside]) / max(float(np.sum(power)), 1e-12))


def make_room(
    measures: Measures, *, most: int = MOST_PROPOSALS, check: Callable[[], None] = lambda: None
) -> tuple[Proposal, ...]:
    """A few proposals, the most needed first; each is tried on top of those before it.

    Args:
        check: called between steps; raises to end the search.
    """
    if not measures.sounding:
        return ()
    workshop = _Workshop(measures, check)
    stack = measures.stack
    found: list[Proposal] = []
    for clash in workshop.clashes():
        if len(found) >= most:
            break
        _keep(found, workshop.tried(stack, clash))
        stack = _with(measures.stack, found)
    if len(found) < most:
        _keep(found, workshop.mud(stack))
    return tuple(found)


def _keep(found: list[Proposal], proposal: Proposal | None) -> None:
    if proposal is not None:
        found.append(proposal)


def _with(stack: Stack, proposals: Sequence[Proposal]) -> Stack:
    for proposal in proposals:
        stack = apply(stack, proposal.edit)
    return stack


def all_of(proposals: Sequence[Proposal]) -> Edit | None:
    """All proposals as one edit; None if there are none."""
    edits: list[AnyEdit] = [proposal.edit for proposal in proposals]  # type: ignore[misc]
    return Several(name="Make room", edits=tuple(edits)) if edits else None
