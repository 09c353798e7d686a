"""Soundings of the whole bass: mud, mono, headroom."""

from __future__ import annotations

import math

from apilado.core.document.editing import Edit
from apilado.core.document.edits import Several
from apilado.core.document.edits_values import AddPart, SetValue
from apilado.core.document.equaliser import MOST_POINTS
from apilado.core.measure.stem import StemMeasures, fold_down_loss_db
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding
from apilado.core.units import power_to_db

MUD_LOW_HZ, MUD_HIGH_HZ = 250.0, 400.0
WORST_DC = 0.01


def _density_db(stem: StemMeasures, low_hz: float, high_hz: float) -> float:
    """Level per octave of a range."""
    mid, side = stem.power_between(low_hz, high_hz)
    return float(power_to_db((mid + side) / math.log2(high_hz / low_hz)))


def mud(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do 250–400 Hz stand out above the octaves around them?"""
    if not measures.sounding:
        return []
    bass = measures.bass
    inside = _density_db(bass, MUD_LOW_HZ, MUD_HIGH_HZ)
    around = (_density_db(bass, MUD_LOW_HZ / 2.0, MUD_LOW_HZ) + _density_db(bass, MUD_HIGH_HZ, 2 * MUD_HIGH_HZ)) / 2.0
    value = inside - around
    status = limits.status(value)
    owner = max(
        measures.stack.audible_layers(),
        key=lambda layer: sum(measures.stems[layer.id].power_between(MUD_LOW_HZ, MUD_HIGH_HZ)),
    )
    limit = f"{limits.look:g} dB"
    place = Place((owner.id,), MUD_LOW_HZ, MUD_HIGH_HZ)
    where = f"layers/{owner.id}/eq"
    if status == "fine":
        text = f"250–400 Hz lie {value:+.1f} dB against the octaves around them."
        return [rule.sounding(status, value, limit, where, text, show=place)]
    text = (
        f"250–400 Hz stand {value:.1f} dB above the octaves around them, mostly from '{owner.name}': "
        "lows and mids blur."
    )
    fix: Edit | None = None
    if len(owner.eq) < MOST_POINTS:
        gain = -round(min(6.0, max(3.0, value - limits.look + 1.0)), 1)
        fix = AddPart(path=where, part={"kind": "bell", "frequency_hz": 316.0, "gain_db": gain, "q": 1.2})
    return [rule.sounding(status, value, limit, where, text, show=place, fix=fix)]


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
    fix = SetValue(path=f"layers/{worst.id}/width", value=round(worst.width * 0.6, 2)) if worst.width > 0.1 else None
    where = f"layers/{worst.id}"
    return [rule.sounding(status, loss, limit, where, text, show=Place((worst.id,)), fix=fix)]


def headroom(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is the true peak below the ceiling, and the bass free of DC?"""
    peak = measures.output_loudness.true_peak_dbtp
    if peak < -100.0:
        return []
    status = limits.status(peak)
    limit = f"{limits.look:g} dBTP"
    text = f"The mix peaks at {peak:+.1f} dBTP."
    fix: Edit | None = None
    if status != "fine":
        over = peak - limits.look + 0.1
        text = f"The mix peaks at {peak:+.1f} dBTP, {over - 0.1:.1f} dB over {limits.look:g}."
        fix = lowered(measures, over)
    if measures.output_loudness.dc > WORST_DC:
        status = "fault"
        text += f" It carries a constant offset of {100.0 * measures.output_loudness.dc:.1f} %."
    return [rule.sounding(status, peak, limit, "bus", text, fix=fix)]


def lowered(measures: Measures, by_db: float) -> Edit | None:
    """Everything down by the same amount: kick, bus and, where it is on, the limiter's ceiling."""
    stack = measures.stack
    wanted = {"kick/level_db": stack.kick.level_db, "bus/level_db": stack.bus.level_db}
    if stack.bus.limiter.on:
        wanted["bus/limiter/ceiling_db"] = stack.bus.limiter.ceiling_db
    if stack.bus.limiter.ceiling_db - by_db < -24.0 or min(wanted.values()) - by_db < -60.0:
        return None
    edits = tuple(SetValue(path=path, value=round(level - by_db, 2)) for path, level in wanted.items())
    return Several(name=f"Everything down by {by_db:.1f} dB", edits=edits)


RULES = (
    Rule("mud", "250–400 Hz", "dB", Limits(3.0, 9.0), "common practice", mud),
    Rule("fold-down", "Mono", "dB", Limits(1.0, 3.0), "common practice", fold_down),
    Rule("headroom", "Headroom", "dBTP", Limits(-1.0, 0.0), "EBU R 128: at most −1 dBTP", headroom),
)
