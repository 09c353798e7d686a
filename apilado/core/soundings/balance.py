"""Soundings of the whole bass: mud, harshness, mono, headroom."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial

from apilado.core.document.editing import Edit
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
from apilado.core.measure.resonances import Resonance
from apilado.core.measure.stem import StemMeasures, fold_down_loss_db
from apilado.core.soundings.asked import HARSH_LEAST_DB
from apilado.core.soundings.carving import bell_edit, point_edit, rise_of_curve, target_curve
from apilado.core.soundings.comparison import curve_of_target
from apilado.core.soundings.further import peaks
from apilado.core.soundings.levels import CEILING_DB, level_ways
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Offer, Place, Rule, Sounding
from apilado.core.units import power_to_db, short_hz

MUD_LOW_HZ, MUD_HIGH_HZ = 250.0, 400.0
MUD_MIDDLE_HZ = 316.0
CLEAN_RISE_DB = rise_of_curve(target_curve("clean lower mids"), MUD_LOW_HZ, MUD_HIGH_HZ)
WORST_DC = 0.01
HARSH_HEARD_DB, HARSH_FLOOR_DB = 20.0, -80.0
HARSH_DEEPEST_DB = 15.0
MOST_NOTCHES = 6


def _density_db(stem: StemMeasures, low_hz: float, high_hz: float) -> float:
    """Level per octave of a range."""
    mid, side = stem.power_between(low_hz, high_hz)
    return float(power_to_db((mid + side) / math.log2(high_hz / low_hz)))


def mud_excess(measures: Measures) -> tuple[float, Layer | None]:
    """How far 250–400 Hz stand over their neighbours, less what the target allows, in dB; and whose they are."""
    if not measures.sounding:
        return 0.0, None
    bass = measures.bass
    inside = _density_db(bass, MUD_LOW_HZ, MUD_HIGH_HZ)
    around = (_density_db(bass, MUD_LOW_HZ / 2.0, MUD_LOW_HZ) + _density_db(bass, MUD_HIGH_HZ, 2 * MUD_HIGH_HZ)) / 2.0
    owner = max(
        measures.stack.audible_layers(),
        key=lambda layer: sum(measures.stems[layer.id].power_between(MUD_LOW_HZ, MUD_HIGH_HZ)),
    )
    return inside - around - allowed_rise(measures), owner


def allowed_rise(measures: Measures) -> float:
    """How much higher than the cleanest target the stack's target lets 250–400 Hz stand, in dB."""
    return rise_of_curve(curve_of_target(measures), MUD_LOW_HZ, MUD_HIGH_HZ) - CLEAN_RISE_DB


def mud(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do 250–400 Hz stand out above the octaves around them?"""
    value, owner = mud_excess(measures)
    if owner is None:
        return []
    allowed = allowed_rise(measures)
    status = limits.status(value)
    limit = f"{limits.look:g} dB"
    place = Place((owner.id,), MUD_LOW_HZ, MUD_HIGH_HZ)
    where = f"layers/{owner.id}"
    aim = "" if abs(allowed) < 0.05 else f", less the {allowed:.1f} dB that '{measures.stack.target}' allows"
    if status == "fine":
        text = f"250–400 Hz lie {value:+.1f} dB against the octaves around them{aim}."
        return [rule.sounding(status, value, limit, where, text, show=place)]
    text = (
        f"250–400 Hz stand {value:.1f} dB above the octaves around them{aim}, mostly from '{owner.name}': "
        "lows and mids blur."
    )
    over = value - limits.look
    ways = partial(_clearer, measures, owner, over)
    return [rule.sounding(status, value, limit, where, text, show=place, ways=ways)]


def _clearer(measures: Measures, owner: Layer, over_db: float) -> Iterator[Edit | None]:
    """A broad dip in the lower mids of the layer they come from, of the bass as a whole, or a higher border."""
    gain = min(6.0, max(3.0, over_db + 1.0))
    for place, depth in (
        (f"layers/{owner.id}", gain),
        (f"layers/{owner.id}", 1.5 * gain),
        ("bus", gain),
        ("bus", 1.5 * gain),
    ):
        yield bell_edit(measures.stack, place, MUD_MIDDLE_HZ, -depth, 1.2)
    yield SetValue(path=f"layers/{owner.id}/level_db", value=round(owner.level_db - min(3.0, gain), 1))


def harsh(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do narrow peaks stand out above 1.5 kHz?"""
    if not measures.sounding:
        return []
    found: list[tuple[float, Layer, Resonance]] = []
    standing = peaks(measures)
    for layer in measures.stack.audible_layers():
        stem = measures.stems[layer.id]
        for peak in standing[layer.id]:
            around = (peak.frequency_hz / 2.0**0.5, peak.frequency_hz * 2.0**0.5)
            own, whole = stem.fine_power_between(*around), measures.bass.fine_power_between(*around)
            # What another layer drowns is not heard as harsh, nor what lies far under the bass.
            drowned = own <= 0.0 or float(power_to_db(whole / own)) >= HARSH_HEARD_DB
            if not drowned and own > measures.bass.power * 10.0 ** (HARSH_FLOOR_DB / 10.0):
                found.append((peak.excess_db, layer, peak))
    limit = f"{limits.look:g} dB"
    if not found:
        return [rule.sounding("fine", 0.0, limit, "bus", "No narrow peak stands out above 1.5 kHz.")]
    found.sort(key=lambda each: -each[0])
    value, layer, peak = found[0]
    status = limits.status(value)
    where = f"layers/{layer.id}"
    place = Place((layer.id,), peak.frequency_hz / 2.0**0.125, peak.frequency_hz * 2.0**0.125)
    text = f"'{layer.name}' stands {value:.1f} dB out of what lies beside it at {peak.frequency_hz:.0f} Hz."
    if status == "fine":
        return [rule.sounding(status, value, limit, where, text, show=place)]
    ways, offers = partial(_smoothed, measures, layer, peak), tuple(_notches(measures, found))
    return [rule.sounding(status, value, limit, where, f"{text} It rings.", show=place, ways=ways, offers=offers)]


def _notches(measures: Measures, found: list[tuple[float, Layer, Resonance]]) -> Iterator[Offer]:
    """A dip for each of the peaks that stand out most."""
    for value, layer, peak in found[:MOST_NOTCHES]:
        notch = next(_smoothed(measures, layer, peak), None)
        if notch is not None:
            yield Offer(f"'{layer.name}' at {short_hz(peak.frequency_hz)}, {value:.1f} dB out", notch)


def _smoothed(measures: Measures, layer: Layer, peak: Resonance) -> Iterator[Edit | None]:
    """A dip on the peak, as narrow as it is, or broader, or deeper."""
    gain, q = min(HARSH_DEEPEST_DB, peak.excess_db - HARSH_LEAST_DB + 2.0), min(12.0, max(2.0, peak.q))
    for depth, width in ((gain, q), (gain, 0.6 * q), (1.4 * gain, q), (1.4 * gain, 0.6 * q)):
        yield bell_edit(measures.stack, f"layers/{layer.id}", peak.frequency_hz, -min(24.0, depth), width)


def fold_down(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """What is lost in mono?"""
    if not measures.sounding:
        return []
    loss = max(0.0, -fold_down_loss_db(measures.bass))
    status = limits.status(loss)
    limit = f"{limits.look:g} dB"
    if status == "fine":
        text = f"Summed to mono the bass loses {loss:.1f} dB."
        return [rule.sounding(status, loss, limit, "bus", text)]
    stems = measures.stems
    worst = max(measures.stack.audible_layers(), key=lambda layer: float(stems[layer.id].side_power.sum()))
    text = f"Summed to mono the bass loses {loss:.1f} dB, most of it in '{worst.name}'."
    where = f"layers/{worst.id}"
    ways = partial(_narrower, worst)
    return [rule.sounding(status, loss, limit, where, text, show=Place((worst.id,)), ways=ways)]


def _narrower(layer: Layer) -> Iterator[Edit | None]:
    """A layer less wide, and less again; mono below the mids, and as a whole."""
    for share in (0.6, 0.3):
        if layer.width > 0.1:
            yield SetValue(path=f"layers/{layer.id}/width", value=round(layer.width * share, 2))
    yield SetValue(path=f"layers/{layer.id}/mono_below_hz", value=400.0)
    yield SetValue(path=f"layers/{layer.id}/mono", value=True)


def headroom(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is the true peak below the ceiling, and the bass free of DC?"""
    peak = measures.output_loudness.true_peak_dbtp
    if peak < -100.0:
        return []
    status = limits.status(peak)
    limit = f"{limits.look:g} dBTP"
    text = f"The mix peaks at {peak:+.1f} dBTP."
    if status != "fine":
        text = f"The mix peaks at {peak:+.1f} dBTP, {peak - limits.look:.1f} dB over {limits.look:g}."
    if measures.output_loudness.dc > WORST_DC:
        status = "fault"
        text += f" It carries a constant offset of {100.0 * measures.output_loudness.dc:.1f} %."
    ways = partial(_headroom_ways, measures)
    return [rule.sounding(status, peak, limit, "bus", text, show=Place(beats=(measures.peak_beat,)), ways=ways)]


def _headroom_ways(measures: Measures) -> Iterator[Edit | None]:
    """Levels, jointly; against a constant offset a high-pass first."""
    if measures.output_loudness.dc > WORST_DC:
        yield point_edit(measures.stack, "bus", {"kind": "high-pass", "frequency_hz": 20.0, "slope_db_per_octave": 12})
    yield from level_ways(measures)


RULES = (
    Rule("mud", "250–400 Hz", "dB", Limits(3.0, 9.0), "common practice", mud),
    Rule("harsh", "Harsh peaks", "dB", Limits(6.0, 12.0), "common practice", harsh),
    Rule("fold-down", "Mono", "dB", Limits(1.0, 3.0), "common practice", fold_down),
    Rule("headroom", "Headroom", "dBTP", Limits(CEILING_DB, 0.0), "EBU R 128: at most −1 dBTP", headroom),
)
