"""Soundings of kick and bass: level, and the duck's way back."""

from __future__ import annotations

import math

from apilado.core.document.editing import Edit
from apilado.core.document.edits_values import SetValue
from apilado.core.measure.ducking import RECOVERED_DB, hit_recoveries
from apilado.core.measure.kick_phase import HIGH_HZ, LOW_HZ
from apilado.core.render.steps import duck_reduction
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding
from apilado.core.units import gain_to_db

KICK_OVER_BASS_DB = (2.0, 4.0)
AIM_DB = 3.0
SHORTEST_RELEASE_MS = 5.0


def kick_level(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Does the kick peak 2 to 4 dB over the bass?"""
    stack = measures.stack
    if stack.kick.mute or measures.kick.peak < 1e-4 or not measures.sounding:
        return []
    value = float(gain_to_db(measures.kick.peak)) - float(gain_to_db(measures.bass.peak))
    low, high = KICK_OVER_BASS_DB
    outside = max(low - value, value - high, 0.0)
    status = limits.status(outside)
    limit = f"{low:g}–{high:g} dB"
    text = f"The kick peaks {abs(value):.1f} dB {'over' if value >= 0 else 'under'} the bass."
    fix: Edit | None = None
    if status != "fine":
        level = stack.kick.level_db + AIM_DB - value
        text += f" {'The bass covers it.' if value < low else 'The bass hides behind it.'}"
        bass = stack.bus.level_db - (AIM_DB - value)
        if -60.0 <= level <= 0.0:
            fix = SetValue(path="kick/level_db", value=round(level, 1))
        elif -60.0 <= bass <= 12.0 and value < low:
            fix = SetValue(path="bus/level_db", value=round(bass, 1))
    return [rule.sounding(status, value, limit, "kick", text, show=Place(beats=stack.kick.hits), fix=fix)]


def duck_recovery(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is the bass back within 1 dB before the next hit?"""
    if not measures.recoveries:
        return []
    deepest = max(hit.depth_db for hit in measures.recoveries)
    if deepest < RECOVERED_DB:
        text = f"The duck takes {deepest:.1f} dB at most; there is nothing to recover from."
        return [rule.sounding("fine", 0.0, "1 dB", "duck", text)]
    late = [hit for hit in measures.recoveries if hit.recovery_ms is None]
    worst = max(measures.recoveries, key=lambda hit: hit.left_db)
    status = limits.status(worst.left_db)
    place = Place(beats=tuple(hit.beat for hit in late))
    if status == "fine":
        slowest = max(hit.recovery_ms or 0.0 for hit in measures.recoveries)
        gap = min(hit.gap_ms for hit in measures.recoveries)
        text = f"The duck takes {deepest:.1f} dB and is back after {slowest:.0f} ms; the shortest gap is {gap:.0f} ms."
        return [rule.sounding(status, worst.left_db, "1 dB", "duck", text, show=place)]
    text = (
        f"At {len(late)} of {len(measures.recoveries)} hits the bass is not back before the next: "
        f"{worst.left_db:.1f} dB are still missing."
    )
    fix = _shorter(measures)
    return [rule.sounding(status, worst.left_db, "1 dB", "duck", text, show=place, fix=fix)]


def _shorter(measures: Measures) -> Edit | None:
    """The longest release of a falling series that recovers, found by running the detector with it."""
    stack, clock = measures.stack, measures.clock
    hits = tuple((beat, clock.sample_at(beat)) for beat in stack.trigger_hits() if beat < clock.beats)
    release = stack.duck.release_ms
    while release > SHORTEST_RELEASE_MS:
        release = math.floor(release * 0.7)
        if release < SHORTEST_RELEASE_MS:
            return None
        duck = stack.duck.model_copy(update={"release_ms": float(release)})
        ahead = clock.samples_in_ms(duck.lookahead_ms + duck.attack_ms)
        reduction = duck_reduction(measures.trigger, duck=duck, clock=clock)
        recovered = hit_recoveries(reduction, hits, rate_hz=clock.rate_hz, lookahead_frames=ahead)
        if all(hit.left_db <= RECOVERED_DB for hit in recovered):
            return SetValue(path="duck/release_ms", value=float(release))
    return None


def kick_phase(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do kick and sub add up where they sound together?"""
    met = measures.kick_meeting
    if met is None or measures.sub is None:
        return []
    name, limit = measures.sub.name, f"{limits.look:g} dB"
    place = Place((measures.sub.id,), LOW_HZ, HIGH_HZ, measures.stack.kick.hits)
    if not met.meets:
        text = f"At the hits '{name}' is {-met.balance_db:.0f} dB apart from the kick: their phase does not matter."
        return [rule.sounding("fine", None, limit, "kick", text, show=place)]
    value = max(0.0, met.inverted_db - met.gain_db)
    status = limits.status(value)
    at = f"{met.phase_deg:+.0f}° apart at the hits, coherence gain {met.gain_db:+.1f} dB"
    if status == "fine":
        return [rule.sounding(status, value, limit, "kick", f"Kick and '{name}' are {at}.", show=place)]
    turned = "normal" if measures.stack.kick.polarity == "inverted" else "inverted"
    text = f"Kick and '{name}' are {at}; with the kick's polarity turned it is {met.inverted_db:+.1f} dB."
    fix = SetValue(path="kick/polarity", value=turned)
    return [rule.sounding(status, value, limit, "kick", text, show=place, fix=fix)]


RULES = (
    Rule("kick-level", "Kick over bass", "dB", Limits(0.0, 3.0), "common practice", kick_level),
    Rule("kick-phase", "Kick and sub", "dB", Limits(0.5, 3.0), "common practice", kick_phase),
    Rule("duck-recovery", "Duck recovers", "dB", Limits(RECOVERED_DB, 3.0), "common practice", duck_recovery),
)
