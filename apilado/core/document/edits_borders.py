"""Edits of the borders: crossovers, and the layers that meet at them."""

from __future__ import annotations

import copy
from typing import Literal

from pydantic import Field

from apilado.core.document.addresses import forget, get, joined, place_of, with_fresh_ids, within
from apilado.core.document.editing import (
    Data,
    Edit,
    border_near,
    carry_movements,
    carry_over,
    fresh_name,
    layer_at,
    next_tint,
)
from apilado.core.document.edits_carving import eq_in
from apilado.core.document.followers import pass_sound_on
from apilado.core.document.naming import layer_name, place_name
from apilado.core.document.stack import Crossover, Stack
from apilado.core.dsp.crossovers import CLOSEST_BORDERS, HIGHEST_BORDER_HZ, LOWEST_BORDER_HZ
from apilado.core.parts import new_id
from apilado.core.units import short_hz
from apilado.errors import InvalidEdit

PLUCKED = {"attack_ms": 3.0, "release_ms": 60.0, "sustain": 0.9, "decay_ms": 900.0}
"""The envelope of a sub under a layer that has none."""


class MoveCrossover(Edit):
    """Moves a crossover, stopping a third of an octave short of its neighbours."""

    op: Literal["move-crossover"] = "move-crossover"
    crossover: str
    frequency_hz: float

    def alter(self, data: Data) -> None:
        crossovers, index = place_of(data, f"crossovers/{self.crossover}")
        low, high = LOWEST_BORDER_HZ, HIGHEST_BORDER_HZ
        if index > 0:
            low = crossovers[index - 1]["frequency_hz"] * CLOSEST_BORDERS
        if index + 1 < len(crossovers):
            high = crossovers[index + 1]["frequency_hz"] / CLOSEST_BORDERS
        crossovers[index]["frequency_hz"] = min(max(round(self.frequency_hz, 1), low), high)

    def title(self, before: Stack, after: Stack) -> str:
        index, crossover = crossover_of(after, self.crossover)
        return f"Crossover {index + 1} to {crossover.frequency_hz:.0f} Hz"

    def remark(self, before: Stack, after: Stack) -> str | None:
        index, crossover = crossover_of(after, self.crossover)
        at = crossover.frequency_hz
        if abs(at - self.frequency_hz) <= 0.051:
            return None
        if at in (LOWEST_BORDER_HZ, HIGHEST_BORDER_HZ):
            return _range_said(at)
        side, other = ("below", index + 2) if at < self.frequency_hz else ("above", index)
        return f"Held at {at:.0f} Hz, a third of an octave {side} crossover {other}."


class MoveBand(Edit):
    """Moves where a band of a step begins, stopping a third of an octave short of its neighbours' borders."""

    op: Literal["move-band"] = "move-band"
    band: str = Field(min_length=1, max_length=200)
    """Its address."""
    frequency_hz: float

    def alter(self, data: Data) -> None:
        bands, index = place_of(data, self.band)
        if index == 0 or "from_hz" not in bands[index]:
            raise InvalidEdit("the lowest band begins at the bottom, and nowhere else")
        edges = [
            LOWEST_BORDER_HZ / CLOSEST_BORDERS,
            *[b["from_hz"] for b in bands[1:]],
            HIGHEST_BORDER_HZ * CLOSEST_BORDERS,
        ]
        low, high = edges[index - 1] * CLOSEST_BORDERS, edges[index + 1] / CLOSEST_BORDERS
        bands[index]["from_hz"] = min(max(round(self.frequency_hz, 1), low), high)

    def title(self, before: Stack, after: Stack) -> str:
        name = place_name(after, self.band)
        return f"{name[:1].upper()}{name[1:]} from {short_hz(get(after, self.band).from_hz)}"

    def remark(self, before: Stack, after: Stack) -> str | None:
        at = get(after, self.band).from_hz
        return None if abs(at - self.frequency_hz) <= 0.051 else f"Held at {short_hz(at)}."


def _range_said(at_hz: float) -> str:
    return f"Crossovers run from {LOWEST_BORDER_HZ:.0f} to {HIGHEST_BORDER_HZ:.0f} Hz; held at {at_hz:.0f} Hz."


class AddCrossover(Edit):
    """Cuts the band at a frequency in two, held within the range of borders; whoever owned it owns both halves."""

    op: Literal["add-crossover"] = "add-crossover"
    frequency_hz: float

    def held_hz(self) -> float:
        """Where it will lie."""
        return round(min(max(self.frequency_hz, LOWEST_BORDER_HZ), HIGHEST_BORDER_HZ), 1)

    def alter(self, data: Data) -> None:
        crossovers, at = data["crossovers"], self.held_hz()
        near = border_near(data, at)
        if near is not None:
            there = crossovers[near]["frequency_hz"]
            raise InvalidEdit(f"there is a border at {there:.4g} Hz already; another needs a third of an octave")
        band = sum(1 for crossover in crossovers if crossover["frequency_hz"] < at)
        slope = crossovers[min(band, len(crossovers) - 1)]["slope_db_per_octave"] if crossovers else 24
        crossovers.insert(band, {"id": new_id(), "frequency_hz": at, "slope_db_per_octave": slope})
        for layer in data["layers"]:
            span = layer["span"]
            span["first"] += span["first"] > band
            span["last"] += span["last"] >= band

    def title(self, before: Stack, after: Stack) -> str:
        return f"Add a crossover at {self.held_hz():.0f} Hz"

    def remark(self, before: Stack, after: Stack) -> str | None:
        return None if abs(self.held_hz() - self.frequency_hz) < 0.1 else _range_said(self.held_hz())


class SplitLayer(Edit):
    """Cuts a layer in two at a frequency: the new layer takes the same source, and treatments of its own.

    Where a border within the layer lies less than a third of an octave off, that one is taken.
    """

    op: Literal["split-layer"] = "split-layer"
    layer: str
    frequency_hz: float = Field(ge=LOWEST_BORDER_HZ, le=HIGHEST_BORDER_HZ)

    def alter(self, data: Data) -> None:
        layers = data["layers"]
        index = layer_at(data, self.layer)[1]
        original = layers[index]
        edges = [0.0, *[c["frequency_hz"] for c in data["crossovers"]], 1e9]
        low, high = edges[original["span"]["first"]], edges[original["span"]["last"] + 1]
        if not low < self.frequency_hz < high:
            raise InvalidEdit(f"{self.frequency_hz:.0f} Hz does not lie within '{original['name']}'")
        border = border_near(data, self.frequency_hz)
        if border is None:
            added = AddCrossover(frequency_hz=self.frequency_hz)
            added.alter(data)
            border = sum(1 for c in data["crossovers"] if c["frequency_hz"] < added.held_hz())
        elif not original["span"]["first"] <= border < original["span"]["last"]:
            there = data["crossovers"][border]["frequency_hz"]
            side = "begins" if border < original["span"]["first"] else "ends"
            raise InvalidEdit(f"there is a border at {there:.4g} Hz already, where '{original['name']}' {side}")
        name = fresh_name(f"upper {original['name'].removeprefix('upper ')}", layers)
        source = original["source"]
        if source["kind"] != "layer":
            source = {"kind": "layer", "layer": original["id"]}
        given: dict[str, str] = {}
        upper = {
            **with_fresh_ids(original, given),
            "name": name,
            "tint": next_tint(layers),
            "source": source,
            "span": {"first": border + 1, "last": original["span"]["last"]},
        }
        original["span"] = {"first": original["span"]["first"], "last": border}
        layers.insert(index + 1, upper)
        carry_over(data, original["id"], upper["id"])
        carry_movements(data, f"layers/{original['id']}", f"layers/{upper['id']}", given)

    def title(self, before: Stack, after: Stack) -> str:
        there = [layer.id for layer in before.layers]
        new = next(layer for layer in after.layers if layer.id not in there)
        at = after.crossovers[new.span.first - 1].frequency_hz
        return f"Split {layer_name(self.layer, before)} at {at:.0f} Hz"


class MergeLayers(Edit):
    """Gives a layer the bands of its upper neighbour as well, which goes; a border that nobody else needs goes too."""

    op: Literal["merge-layers"] = "merge-layers"
    layer: str
    upper: str

    def alter(self, data: Data) -> None:
        layers = data["layers"]
        lower = get(data, f"layers/{self.layer}")
        upper = get(data, f"layers/{self.upper}")
        border = lower["span"]["last"]
        if upper["span"]["first"] != border + 1:
            raise InvalidEdit(f"'{lower['name']}' and '{upper['name']}' are not neighbours")
        for other in layers:
            if other["source"]["kind"] == "layer" and other["source"]["layer"] == self.upper:
                if other["id"] == self.layer:
                    lower["source"] = copy.deepcopy(upper["source"])
                else:
                    other["source"]["layer"] = self.layer
        lower["span"]["last"] = upper["span"]["last"]
        layers.remove(upper)
        forget(data, f"layers/{self.upper}")
        if not any(x["span"]["last"] == border or x["span"]["first"] == border + 1 for x in layers):
            RemoveCrossover(crossover=data["crossovers"][border]["id"]).alter(data)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Merge {layer_name(self.upper, before)} into {layer_name(self.layer, before)}"


class PutSubUnder(Edit):
    """Puts a clean sine under a layer: it follows the layer's notes, and the layer's own fundamental goes.

    The border is set where `frequency_hz` says. A layer whose sound is a tone of its own loses its first harmonic;
    any other is cut at the border. The new sub owns all below it; the layer gives up those bands.
    """

    op: Literal["put-sub-under"] = "put-sub-under"
    layer: str
    frequency_hz: float = Field(ge=LOWEST_BORDER_HZ, le=400.0)

    def alter(self, data: Data) -> None:
        layers, crossovers = data["layers"], data["crossovers"]
        above = get(data, f"layers/{self.layer}")
        if not crossovers or crossovers[0]["frequency_hz"] > self.frequency_hz * CLOSEST_BORDERS:
            AddCrossover(frequency_hz=self.frequency_hz).alter(data)
        else:
            MoveCrossover(crossover=crossovers[0]["id"], frequency_hz=self.frequency_hz).alter(data)
        for layer in layers:
            span = layer["span"]
            span["first"], span["last"] = max(1, span["first"]), max(1, span["last"])
        sub = _clean_sub(above, data["voice"])
        _without_fundamental(above["source"])
        named = {
            "id": new_id(),
            "name": fresh_name("sub", layers),
            "tint": next_tint(layers),
            "level_db": min(0.0, above["level_db"]),
        }
        layers.insert(0, {**sub, **named})

    def title(self, before: Stack, after: Stack) -> str:
        return f"A clean sub under {layer_name(self.layer, before)}"


class SubInPlaceOf(Edit):
    """Makes a layer that owns nothing but the lowest band a clean sine with the same notes.

    Its name, its level, its ducks and its carve pairs stay, its treatments and its EQ points go. The layers that took
    its sound play on what they played.
    """

    op: Literal["sub-in-place-of"] = "sub-in-place-of"
    layer: str

    def alter(self, data: Data) -> None:
        layers = data["layers"]
        index = layer_at(data, self.layer)[1]
        there, here = layers[index], f"layers/{self.layer}"
        if there["span"]["last"] > 0:
            raise InvalidEdit(f"'{there['name']}' owns more than the lowest band")
        pass_sound_on(layers, self.layer)
        kept = {key: there[key] for key in ("id", "name", "tint", "level_db", "mute", "span")}
        eq = get(data, eq_in(data, here))["id"]
        for pair in data["pairs"]:
            for end in ("dip", "lift"):
                pair[end] = joined(here, "path", eq) if within(pair[end], here) else pair[end]
        path = [{"id": new_id(), "kind": "split"}, {"id": eq, "kind": "eq"}]
        layers[index] = {**_clean_sub(there, data["voice"]), **kept, "path": path}

    def title(self, before: Stack, after: Stack) -> str:
        return f"A clean sub in place of {layer_name(self.layer, before)}"


def _clean_sub(like: Data, voice: Data) -> Data:
    """A sine that plays what a layer plays, as long as that; without a name and a level.

    Args:
        voice: the stack's.
    """
    plays = like["source"]["kind"] == "tone"
    own = like["voice"] or voice
    envelope = own["envelope"] if plays else PLUCKED
    ends = {
        "attack_ms": max(2.0, envelope["attack_ms"]),
        "sustain": max(0.8, envelope["sustain"]),
        "release_ms": max(20.0, envelope["release_ms"]),
    }
    wanted = {**own, "envelope": {**envelope, **ends}}
    return {
        "voice": None if wanted == voice else wanted,
        "mono": True,
        "transpose": like["transpose"],
        "notes": copy.deepcopy(like["notes"]),
        "source": {
            "kind": "tone",
            "tones": [{"shape": "sine"}],
            "velocity": 0.0,
        },
    }


def _without_fundamental(source: Data) -> None:
    """Takes the first harmonic out of a tone, if nothing in it lies below its note."""
    if source["kind"] == "tone" and all(tone["octave"] >= 0 for tone in source["tones"]):
        for tone in source["tones"]:
            if tone["octave"] == 0 and tone["semitones"] == 0:
                tone["harmonics"] = [0.0, *tone["harmonics"][1:]]


class RemoveCrossover(Edit):
    """Joins the two bands at a crossover."""

    op: Literal["remove-crossover"] = "remove-crossover"
    crossover: str

    def alter(self, data: Data) -> None:
        crossovers, index = place_of(data, f"crossovers/{self.crossover}")
        del crossovers[index]
        for layer in data["layers"]:
            span = layer["span"]
            span["first"] -= span["first"] > index
            span["last"] -= span["last"] > index

    def title(self, before: Stack, after: Stack) -> str:
        return f"Remove the crossover at {crossover_of(before, self.crossover)[1].frequency_hz:.0f} Hz"


def crossover_of(stack: Stack, crossover_id: str) -> tuple[int, Crossover]:
    """(place, crossover) of an id; the document is known to have it."""
    return next((i, each) for i, each in enumerate(stack.crossovers) if each.id == crossover_id)
