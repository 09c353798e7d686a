"""Soundings of the borders: the split's sum, and how neighbours stand on each other."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import numpy as np

from apilado.core.document.editing import Edit
from apilado.core.document.edits import AnyEdit, Several, apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.equaliser import eq_sections
from apilado.core.document.layer import Layer
from apilado.core.document.path import Container
from apilado.core.document.stack import Stack
from apilado.core.dsp.filters import sections_response
from apilado.core.measure.phase import BorderPhase
from apilado.core.render.response import Chain, unowned_bands
from apilado.core.soundings.alignment import advise
from apilado.core.soundings.further import part_sums
from apilado.core.soundings.measures import Measures, SplitRipple
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding
from apilado.core.treatments.base import Treatment
from apilado.core.units import gain_to_db

WORTHWHILE_DB = 0.3
LONGEST_DELAY_MS = 50.0
EVEN_DB = 0.5


def split_flat(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Are the borders whole: do their filters sum to what was split?"""
    say = {"border": _border_said, "overlap": _overlap_said, "hole": _hole_said}
    found = [say[item.kind](rule, limits, measures, item) for item in measures.ripples]
    inner = {item.place for item in measures.ripples if item.kind == "hole"}
    if measures.sounding:
        lost = [band for band in unowned_bands(measures.stack) if band not in inner]
        found += [_lost_said(rule, limits, measures.stack, band) for band in lost]
    return found


def _border_said(rule: Rule, limits: Limits, measures: Measures, item: SplitRipple) -> Sounding:
    stack = measures.stack
    value = abs(item.ripple.deviation_db)
    status = limits.status(value)
    border = stack.crossovers[item.place]
    needed = _needed_at(measures, item) if status != "fine" else None
    names = " and ".join(f"'{_named(stack, name)}'" for name in item.layers)
    where = stack.crossover_path(item.place)
    place = Place(item.layers, border.frequency_hz / 2**0.5, border.frequency_hz * 2**0.5)
    limit = f"{limits.look:g} dB"
    if status == "fine":
        text = f"The filters of {names} sum flat at {border.frequency_hz:.0f} Hz, within {value:.2f} dB."
        return rule.sounding(status, value, limit, where, text, show=place)
    kind = "dip" if item.ripple.deviation_db < 0 else "bump"
    if needed is not None:
        text = (
            f"{names} stand plumb at {border.frequency_hz:.0f} Hz, {needed.phase_deg:+.0f}°: what is done turns them, "
            f"polarity and delay turn them back. The filters alone would leave a {kind} of {value:.1f} dB."
        )
        return rule.sounding("fine", value, limit, where, text, show=place)
    text = f"The filters of {names} leave a {kind} of {value:.1f} dB at {item.ripple.frequency_hz:.0f} Hz in their sum."
    if _straightened(stack, item.layers, item.place) is not None:
        text += " Polarity, delay or overlap sets them apart."
    ways = partial(border_ways, measures, item.place, item.layers)
    return rule.sounding(status, value, limit, where, text, show=place, ways=ways)


def _needed_at(measures: Measures, item: SplitRipple) -> BorderPhase | None:
    """How two layers meet where polarity or delay sets their filters apart, but lets the layers stand plumb."""
    limits = PLUMB.limits.overridden(measures.stack.limits.get(PLUMB.id))
    met = [b for index, b in measures.borders if index == item.place and {b.lower, b.upper} <= set(item.layers)]
    plumb_there = [b.meets and not b.drifts and limits.status(abs(b.phase_deg)) == "fine" for b in met]
    return met[0] if met and all(plumb_there) and _set_apart(measures.stack, item) else None


def _set_apart(stack: Stack, item: SplitRipple) -> bool:
    """Whether polarity or delay differs between layers."""
    layers = [layer for layer in stack.layers if layer.id in item.layers]
    return len({(layer.polarity, layer.delay_ms) for layer in layers}) > 1


def _overlap_said(rule: Rule, limits: Limits, measures: Measures, item: SplitRipple) -> Sounding:
    stack = measures.stack
    value, (low, high) = abs(item.ripple.deviation_db), _edges_hz(stack, item.place)
    names = " and ".join(f"'{_named(stack, name)}'" for name in item.layers)
    text = (
        f"{names} both keep {_band_said(low, high)} of one sound: their filters leave "
        f"{item.ripple.deviation_db:+.1f} dB at {item.ripple.frequency_hz:.0f} Hz in the sum."
    )
    place, limit = Place(item.layers, low or 20.0, high or 20000.0), f"{limits.look:g} dB"
    where = f"layers/{item.layers[-1]}"
    ways = partial(_one_way, _parted(stack, item))
    return rule.sounding(limits.status(value), value, limit, where, text, show=place, ways=ways)


def _hole_said(rule: Rule, limits: Limits, measures: Measures, item: SplitRipple) -> Sounding:
    stack = measures.stack
    value, (low, high) = abs(item.ripple.deviation_db), _edges_hz(stack, item.place)
    text = (
        f"No layer keeps {_band_said(low, high)}: the sum has a hole of {value:.1f} dB at "
        f"{item.ripple.frequency_hz:.0f} Hz."
    )
    place, limit = Place(item.layers, low or 20.0, high or 20000.0), f"{limits.look:g} dB"
    ways = partial(_one_way, _kept(stack, item.place))
    where = stack.crossover_path(item.place - 1)
    return rule.sounding(limits.status(value), value, limit, where, text, show=place, ways=ways)


def _lost_said(rule: Rule, limits: Limits, stack: Stack, band: int) -> Sounding:
    low, high = _edges_hz(stack, band)
    text = f"No layer keeps {_band_said(low, high)}: whatever sounds there is lost."
    place, limit = Place((), low or 20.0, high or 20000.0), "every band kept"
    where = stack.crossover_path(max(0, band - 1))
    return rule.sounding("look", None, limit, where, text, show=place, ways=partial(_one_way, _kept(stack, band)))


def _one_way(edit: Edit | None) -> tuple[Edit | None]:
    return (edit,)


def _edges_hz(stack: Stack, band: int) -> tuple[float | None, float | None]:
    """The edges of a band; None where it is open."""
    borders = stack.crossovers
    low = borders[band - 1].frequency_hz if band > 0 else None
    return low, borders[band].frequency_hz if band < len(borders) else None


def _band_said(low_hz: float | None, high_hz: float | None) -> str:
    if low_hz is None:
        return f"what lies below {high_hz:.0f} Hz"
    return f"what lies above {low_hz:.0f} Hz" if high_hz is None else f"{low_hz:.0f}–{high_hz:.0f} Hz"


def _parted(stack: Stack, item: SplitRipple) -> Edit | None:
    """Lets the upper of two layers begin where the lower ends; None where one lies within the other."""
    lower, upper = (stack.layer(name) for name in item.layers[:2])
    if lower is None or upper is None or upper.span.last <= lower.span.last:
        return None
    span = {"first": lower.span.last + 1, "last": upper.span.last}
    return Several(
        name=f"Part {lower.name} and {upper.name}", edits=(SetValue(path=f"layers/{upper.id}/span", value=span),)
    )


def _kept(stack: Stack, band: int) -> Edit | None:
    """Gives a band that nobody keeps to the layer below it, or else to the one above."""
    below = next((layer for layer in stack.layers if layer.span.last == band - 1), None)
    above = next((layer for layer in stack.layers if layer.span.first == band + 1), None)
    layer = below or above
    if layer is None:
        return None
    span = {"first": min(layer.span.first, band), "last": max(layer.span.last, band)}
    return Several(
        name=f"{layer.name} keeps the band too", edits=(SetValue(path=f"layers/{layer.id}/span", value=span),)
    )


def split_sum(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do the parts of one source, as they stand, still add up to it?"""
    found, stack = [], measures.stack
    for chain, measured in part_sums(measures):
        value = abs(measured.deviation_db)
        names = ", ".join(f"'{member.name}'" for member in chain.members)
        place = Place(
            tuple(m.id for m in chain.members), measured.frequency_hz / 2**0.25, measured.frequency_hz * 2**0.25
        )
        where, limit = f"layers/{chain.members[0].id}", f"{limits.look:g} dB"
        if value < EVEN_DB:
            text = f"As they stand, {names} add up to their source within {value:.1f} dB."
        else:
            text = (
                f"As they stand, {names} add up to their source but for {measured.deviation_db:+.1f} dB at "
                f"{measured.frequency_hz:.0f} Hz{_spoiled_by(stack, chain, measured.frequency_hz)}."
            )
        found.append(rule.sounding(limits.status(value), value, limit, where, text, show=place))
    return found


def _spoiled_by(stack: Stack, chain: Chain, frequency_hz: float) -> str:
    """What is done to the parts that own a frequency, in words."""
    band = sum(1 for crossover in stack.crossovers if crossover.frequency_hz < frequency_hz)
    levels = [member.level_db for member in chain.members]
    said = []
    if max(levels) - min(levels) > 0.25:
        said.append("levels " + ", ".join(f"{m.level_db:+.1f} dB ('{m.name}')" for m in chain.members))
    for member in chain.owners(band):
        causes = []
        sections = eq_sections(stack.all_points(f"layers/{member.id}"), stack.sample_rate)
        eq = float(gain_to_db(abs(sections_response(sections, np.array([frequency_hz]), stack.sample_rate)[0])))
        if abs(eq) > 0.1:
            causes.append(f"EQ {eq:+.1f} dB")
        causes += [step.label.lower() for step in member.path if isinstance(step, Treatment | Container) and step.on]
        if member.note_levels_db:
            causes.append("levels of single notes")
        if member.mono or member.width != 1.0 or member.pan or member.mono_below_hz:
            causes.append("its place in the stereo image")
        if member.delay_ms or member.polarity == "inverted":
            causes.append("delay or polarity")
        if causes:
            said.append(f"{', '.join(causes)} of '{member.name}'")
    return f", by {' and '.join(said)}" if said else ""


def _named(stack: Stack, layer_id: str) -> str:
    layer = stack.layer(layer_id)
    return layer.name if layer else layer_id


def _straightened(stack: Stack, layer_ids: tuple[str, ...], crossover: int | None) -> Several | None:
    """Takes polarity and delay off the layers and the overlap off their border (or off all), where there are any."""
    edits: list[AnyEdit] = []
    for place in range(len(stack.crossovers)) if crossover is None else (crossover,):
        if stack.crossovers[place].overlap_octaves > 0.0:
            edits.append(SetValue(path=f"{stack.crossover_path(place)}/overlap_octaves", value=0.0))
    for layer in stack.layers:
        if layer.id in layer_ids and layer.polarity == "inverted":
            edits.append(SetValue(path=f"layers/{layer.id}/polarity", value="normal"))
        if layer.id in layer_ids and layer.delay_ms > 0.0:
            edits.append(SetValue(path=f"layers/{layer.id}/delay_ms", value=0.0))
    return Several(name="Straighten the split", edits=tuple(edits)) if edits else None


def plumb(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do neighbours add up at their border, or cancel?"""
    return [_plumb_at(rule, limits, measures, index, border) for index, border in measures.borders]


def _plumb_at(rule: Rule, limits: Limits, measures: Measures, index: int, border: BorderPhase) -> Sounding:
    stack = measures.stack
    names = f"'{_named(stack, border.lower)}' and '{_named(stack, border.upper)}'"
    where = stack.crossover_path(index)
    place = Place((border.lower, border.upper), border.frequency_hz / 2**0.5, border.frequency_hz * 2**0.5)
    limit = f"{limits.look:g}°"
    at = f"at {border.frequency_hz:.0f} Hz"
    turned, gain = abs(border.phase_deg), border.coherence_gain_db
    if not border.meets:
        text = f"{names} hardly meet {at}: the quieter is {-border.balance_db:.0f} dB below."
        return rule.sounding("fine", None, limit, where, text, show=place)
    if border.drifts:
        text = f"{names} drift against each other {at}: they neither add nor cancel for long ({gain:+.1f} dB)."
        return rule.sounding("fine", None, limit, where, text, show=place)
    status = limits.status(turned)
    if status == "fine":
        text = f"{names} stand plumb {at}: {border.phase_deg:+.0f}°, coherence gain {gain:+.1f} dB."
        return rule.sounding(status, turned, limit, where, text, show=place)
    text = f"{names} are {border.phase_deg:+.0f}° apart {at}: coherence gain {gain:+.1f} dB, where +3 is the most."
    ways = partial(border_ways, measures, index, (border.lower, border.upper))
    return rule.sounding(status, turned, limit, where, text, show=place, ways=ways)


def border_ways(measures: Measures, index: int, layer_ids: tuple[str, ...]) -> Iterator[Edit | None]:
    """Ways to let neighbours add up, for the flatness of their filters and for their phase alike.

    The two of a border alone; what sets the filters of the whole split apart, taken away; the settings that Plumb finds
    for all borders, as they stand and with the split straightened first.
    """
    stack = measures.stack
    straight = _straightened(stack, tuple(layer.id for layer in stack.layers), None)
    yield _straightened(stack, layer_ids, index)
    met = [border for place, border in measures.borders if place == index and border.meets and not border.drifts]
    for border in met:
        yield _replumbed(measures, index, border)
    yield straight
    yield advise(measures).edit
    if straight is not None:
        after = apply(stack, straight)
        plumbed = advise(measures.measure_again(after)).edit
        if plumbed is not None:
            yield Several(name="Straighten the split, and plumb it", edits=(*straight.edits, *plumbed.edits))
    yield advise(measures, "mean").edit


def _replumbed(measures: Measures, index: int, border: BorderPhase) -> Edit | None:
    best = measures.alignment_at(index, border.lower, border.upper)
    if best.coherence_gain_db < border.coherence_gain_db + WORTHWHILE_DB:
        return None
    lower, upper = measures.stack.layer(border.lower), measures.stack.layer(border.upper)
    if lower is None or upper is None:
        return None
    edits: list[SetValue] = []
    if best.invert:
        flipped = "normal" if upper.polarity == "inverted" else "inverted"
        edits.append(SetValue(path=f"layers/{upper.id}/polarity", value=flipped))
    edits += _delays(lower, upper, best.delay_ms)
    if not edits:
        return None
    return Several(name=f"Plumb {upper.name} on {lower.name}", edits=tuple(edits))


def _delays(lower: Layer, upper: Layer, delay_ms: float) -> list[SetValue]:
    """Delays the upper against the lower; what they have in common is taken off both."""
    low, high = lower.delay_ms, upper.delay_ms + delay_ms
    common = min(low, high)
    wanted = {lower.id: (lower.delay_ms, low - common), upper.id: (upper.delay_ms, high - common)}
    return [
        SetValue(path=f"layers/{name}/delay_ms", value=round(min(new, LONGEST_DELAY_MS), 3))
        for name, (old, new) in wanted.items()
        if abs(new - old) > 1e-4
    ]


PLUMB = Rule("plumb", "Plumb", "°", Limits(45.0, 90.0), "common practice", plumb)
RULES = (
    Rule(
        "split-flat",
        "Split flat",
        "dB",
        Limits(0.5, 2.0),
        "Linkwitz 1976: matched borders sum to an all-pass",
        split_flat,
    ),
    Rule(
        "split-sum", "Parts and source", "dB", Limits(24.0, 200.0), "own choice: parts are carved on purpose", split_sum
    ),
    PLUMB,
)
