"""Soundings of width and space: what widens below the mono border, and what of the low end is in the space."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

from apilado.core.banded import Banded
from apilado.core.document.addresses import find, joined, owner_of, parted, parts_of
from apilado.core.document.editing import Edit
from apilado.core.document.edits import Several
from apilado.core.document.edits_values import SetValue
from apilado.core.document.naming import place_name
from apilado.core.soundings.carving import point_edit
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding
from apilado.core.soundings.step_levels import low_side_stages, mono_border, treatments_heard
from apilado.core.soundings.sub import NOTHING
from apilado.core.units import power_ratio_db

LEAST_WIDER = 1e-4
"""By how much of its power a step has to bring sideways, to be what widens."""


@dataclass(frozen=True)
class Wide:
    """What of a layer or of the bus lies at the sides below the border, and the step that brings most of it there."""

    owner: str
    address: str
    side_db: float


def wide_low(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Does a treatment widen what lies below the mono border?"""
    border, limit = mono_border(measures.stack), f"{limits.look:g} dB"
    found, asked = _widened(measures, border)
    place = Place((), 20.0, border)
    said = [each for each in found if limits.status(each.side_db) != "fine"]
    if not said:
        text = f"No treatment widens what lies below {border:.0f} Hz."
        return [rule.sounding("fine", None, limit, "bus", text, show=place)] if asked else []
    told = []
    for each in said:
        name, whose = place_name(measures.stack, each.address), measures.stack.owner_name(each.owner)
        text = (
            f"{name[:1].upper()}{name[1:]} widens '{whose}' below {border:.0f} Hz: its side lies {-each.side_db:.0f} dB"
        )
        text += f" under the bass's middle, wanted {-limits.look:g}. In mono that part is lost."
        _, layer, *_ = (*parts_of(each.owner), "")
        place = Place((layer,) if layer else (), 20.0, border)
        ways = partial(_narrowed, measures, each, border)
        told.append(
            rule.sounding(limits.status(each.side_db), each.side_db, limit, each.address, text, show=place, ways=ways)
        )
    return told


def _widened(measures: Measures, border_hz: float) -> tuple[list[Wide], bool]:
    """(of each layer and the bus what treatments have widened of it, whether there are any that could)."""
    stack, graph = measures.stack, measures.graph
    middle, _ = measures.bass.power_between(20.0, border_hz)
    found, asked = [], False
    for owner in (*(f"layers/{layer.id}" for layer in stack.audible_layers()), "bus"):
        shares = {}
        for address, pair in low_side_stages(stack, graph, measures.clock, owner).items():
            (mid_in, side_in), (mid_out, side_out) = measures.run_all(list(pair))
            asked = True
            if side_out > NOTHING * (mid_out + side_out):
                shares[address] = side_out / (mid_out + side_out) - side_in / max(mid_in + side_in, 1e-30)
        stem = measures.bass if owner == "bus" else measures.stems[parted(owner)[1]]
        side = stem.power_between(20.0, border_hz)[1]
        if shares and middle > NOTHING * measures.bass.power and side > 0.0:
            most = max(shares, key=lambda address: shares[address])
            if shares[most] > LEAST_WIDER:
                found.append(Wide(owner, most, power_ratio_db(side, middle)))
    return found, asked


def _narrowed(measures: Measures, wide: Wide, border_hz: float) -> Iterator[Edit | None]:
    """The step itself mono below the border, its lowest band, the step off, or the layer mono below."""
    step = find(measures.stack, wide.address)
    own = step.mono_ways(border_hz)
    if own:
        edits = tuple(SetValue(path=joined(wide.address, name), value=value) for name, value in own.items())
        yield edits[0] if len(edits) == 1 else Several(name="Mono below", edits=edits)
    if isinstance(step, Banded):
        lowest = step.in_bands()[0]
        if hasattr(lowest, "width"):
            yield SetValue(path=joined(wide.address, "bands", lowest.id, "width"), value=0.0)
    for by in (1.0, 1.5):
        highest = 500.0 if wide.owner == "bus" else 2000.0
        yield SetValue(path=joined(wide.owner, "mono_below_hz"), value=min(highest, round(by * border_hz)))


def low_in_space(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is the low end in the space?"""
    space, stack = measures.space, measures.stack
    if space is None or not measures.sounding:
        return []
    border = stack.crossovers[0].frequency_hz if stack.crossovers else mono_border(stack)
    low = sum(space.power_between(20.0, min(border, 1000.0)))
    value = power_ratio_db(low, sum(measures.bass.power_between(20.0, min(border, 1000.0))))
    status, limit, place = limits.status(value), f"{limits.look:g} dB", Place((), 20.0, border)
    if status == "fine":
        said = "nothing" if value < -90.0 else f"{-value:.0f} dB less than in the bass"
        text = f"Below {border:.0f} Hz there is {said} in the space: the low end stays dry."
        return [rule.sounding(status, value, limit, "space", text, show=place)]
    text = f"Below {border:.0f} Hz the space lies only {-value:.0f} dB under the bass: it blurs the low end and rings"
    text += " into the next note."
    ways = partial(_cut_low, measures, border)
    return [rule.sounding(status, value, limit, "space", text, show=place, ways=ways)]


def _cut_low(measures: Measures, border_hz: float) -> Iterator[Edit | None]:
    """A higher low cut of its reverbs, a high-pass in its path, or less of what sends low sound."""
    stack = measures.stack
    heard = treatments_heard(stack, measures.graph, "space")
    rooms = [address for address, step in heard.items() if hasattr(step, "low_cut_hz")]
    for by in (1.0, 1.5, 2.0):
        if rooms:
            hertz = min(2000.0, round(by * border_hz))
            edits = tuple(SetValue(path=joined(address, "low_cut_hz"), value=hertz) for address in rooms)
            yield edits[0] if len(edits) == 1 else Several(name="Low cut of the space", edits=edits)
    for by in (1.0, 1.5, 2.0):
        hertz = round(by * border_hz)
        yield point_edit(stack, "space", {"kind": "high-pass", "frequency_hz": hertz, "slope_db_per_octave": 24})
    for owner in stack.senders():
        if owner_of(owner) == owner and find(stack, owner).send > 0.0:
            yield SetValue(path=joined(owner, "send"), value=0.0)


RULES = (
    Rule("wide-low", "Narrow below", "dB", Limits(-40.0, -30.0), "common practice", wide_low),
    Rule("low-in-space", "Low in the space", "dB", Limits(-24.0, -12.0), "common practice", low_in_space),
)
