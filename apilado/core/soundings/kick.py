"""Soundings of kick and bass: level, phase, common ground, and the duck's way back."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import numpy as np

from apilado.core.document.ducker import Ducker
from apilado.core.document.editing import Edit
from apilado.core.document.edits_values import SetValue
from apilado.core.measure.ducking import RECOVERED_DB, HitRecovery
from apilado.core.measure.kick_phase import HIGH_HZ, LOW_HZ
from apilado.core.measure.room_map import centre_of
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.soundings.carving import keyed_bell_edit, pair_edit
from apilado.core.soundings.fitting import fitted_duck, longest_recovering
from apilado.core.soundings.levels import KICK_OVER_BASS_DB, level_ways
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding

PAIR_DIPS_DB, KEYED_DIPS_DB = (4.0, 6.0), (9.0, 12.0)
PLAIN_DEPTH_DB = 6.0
GAP_HOLD, GAP_RELEASE = 0.1, 0.5
OFFSETS_TRIED_MS = (2.0, -2.0, 4.0, -4.0)


def kick_level(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Does the kick peak 2 to 4 dB over the bass?"""
    stack = measures.stack
    value = measures.kick_over_bass_db
    if value is None:
        return []
    low, high = KICK_OVER_BASS_DB
    outside = max(low - value, value - high, 0.0)
    status = limits.status(outside)
    limit = f"{low - limits.look:g}–{high + limits.look:g} dB"
    text = f"The kick peaks {abs(value):.1f} dB {'over' if value >= 0 else 'under'} the bass."
    if status != "fine":
        text += f" {'The bass covers it.' if value < low else 'The bass hides behind it.'}"
    place, ways = Place(beats=stack.hits("kick")), partial(level_ways, measures)
    return [rule.sounding(status, value, limit, "kick", text, show=place, judged=outside, ways=ways)]


def duck_recovery(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Is the bass back within 1 dB before the next hit?"""
    found = []
    for ducker in measures.stack.duckers:
        hits = measures.recoveries.get(ducker.id, ())
        if hits:
            found.append(_recovery(rule, limits, measures, ducker, hits))
    return found


def _recovery(
    rule: Rule, limits: Limits, measures: Measures, ducker: Ducker, hits: tuple[HitRecovery, ...]
) -> Sounding:
    where, name = f"duckers/{ducker.id}", f"'{ducker.name}'"
    deepest, limit = max(hit.depth_db for hit in hits), f"{limits.look:g} dB"
    if deepest < RECOVERED_DB:
        text = f"{name} takes {deepest:.1f} dB at most; there is nothing to recover from."
        return rule.sounding("fine", 0.0, limit, where, text)
    late = [hit for hit in hits if hit.recovery_ms is None]
    worst = max(hits, key=lambda hit: hit.left_db)
    status = limits.status(worst.left_db)
    place = Place(beats=tuple(hit.beat for hit in late))
    if status == "fine":
        slowest = max(hit.recovery_ms or 0.0 for hit in hits)
        gap = min(hit.gap_ms for hit in hits)
        text = f"{name} takes {deepest:.1f} dB and is back after {slowest:.0f} ms; the shortest gap is {gap:.0f} ms."
        return rule.sounding(status, worst.left_db, limit, where, text, show=place)
    text = (
        f"At {len(late)} of {len(hits)} hits the bass is not back before the next: "
        f"{worst.left_db:.1f} dB of {name} still hold it down."
    )
    ways = partial(_recovering, measures, ducker, min(hit.gap_ms for hit in hits))
    return rule.sounding(status, worst.left_db, limit, where, text, show=place, ways=ways)


def _recovering(measures: Measures, ducker: Ducker, gap_ms: float) -> Iterator[Edit | None]:
    """The same shape, shortened as little as will do; a drawn one that fits the gap, as deep or less deep."""
    path = f"duckers/{ducker.id}/shape"
    shape = longest_recovering(measures, ducker)
    if shape is not None:
        yield SetValue(path=path, value=shape.model_dump(mode="json"))
    fitted = fitted_duck(measures, ducker)
    if fitted is not None:
        yield fitted.edit
    drawn = DrawnDuck(
        depth_db=PLAIN_DEPTH_DB,
        attack_ms=1.0,
        hold_ms=round(GAP_HOLD * gap_ms, 1),
        release_ms=max(5.0, round(GAP_RELEASE * gap_ms, 1)),
    )
    yield SetValue(path=path, value=drawn.model_dump(mode="json"))


def kick_clash(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """How much of the kick's energy lies where and when the bass has as much?"""
    stack = measures.stack
    if measures.kick_over_bass_db is None:
        return []
    layers = tuple(f"layers/{layer.id}" for layer in stack.audible_layers())
    room = measures.room
    bass, kick = room.together(layers), room.of("kick")
    own = float(np.sum(kick))
    common = np.mean(np.minimum(bass, kick), axis=1)
    value = 100.0 * float(np.sum(np.minimum(bass, kick))) / own if own > 0.0 else 0.0
    status = limits.status(value)
    limit = f"{limits.look:g} %"
    hertz = centre_of(common)
    owner = max(stack.audible_layers(), key=lambda layer: float(np.sum(room.common("kick", f"layers/{layer.id}"))))
    place = Place((owner.id,), hertz / 2.0**0.25, hertz * 2.0**0.25, stack.hits("kick"))
    where = f"layers/{owner.id}"
    if status == "fine":
        text = f"Of the kick's energy {value:.0f} % lies where the bass has as much at the same time."
        return [rule.sounding(status, value, limit, where, text, show=place)]
    text = (
        f"Of the kick's energy {value:.0f} % lies where the bass has as much at the same time, "
        f"most of it at {hertz:.0f} Hz, from '{owner.name}'."
    )
    ways = partial(_parted, measures, where, hertz)
    return [rule.sounding(status, value, limit, where, text, show=place, ways=ways)]


def _parted(measures: Measures, owner: str, hertz: float) -> Iterator[Edit | None]:
    """A carve pair, or a bell that opens while the kick sounds, deeper where that is not enough.

    What a sub owns it owns all the time: there only the bell that opens makes room without a hole.
    """
    stack = measures.stack
    if measures.sub is None or owner != f"layers/{measures.sub.id}":
        for dip in PAIR_DIPS_DB:
            yield pair_edit(stack, owner, "kick", hertz, dip_db=dip, lift_db=1.0)
    for dip in KEYED_DIPS_DB:
        yield keyed_bell_edit(stack, owner, "kick", hertz, dip)
    for ducker in stack.duckers:
        yield SetValue(path=f"duckers/{ducker.id}/on", value=True)


def kick_phase(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do kick and sub add up where they sound together?"""
    met = measures.kick_meeting
    if met is None or measures.sub is None:
        return []
    name, limit = measures.sub.name, f"{limits.look:g} dB"
    place = Place((measures.sub.id,), LOW_HZ, HIGH_HZ, measures.stack.hits("kick"))
    if not met.meets:
        text = f"At the hits '{name}' is {-met.balance_db:.0f} dB apart from the kick: their phase does not matter."
        return [rule.sounding("fine", None, limit, "kick", text, show=place)]
    value = max(0.0, met.inverted_db - met.gain_db)
    status = limits.status(value)
    at = f"{met.phase_deg:+.0f}° apart at the hits, coherence gain {met.gain_db:+.1f} dB"
    if status == "fine":
        return [rule.sounding(status, value, limit, "kick", f"Kick and '{name}' are {at}.", show=place)]
    text = f"Kick and '{name}' are {at}; with the kick's polarity turned it is {met.inverted_db:+.1f} dB."
    ways = partial(_turned, measures)
    return [rule.sounding(status, value, limit, "kick", text, show=place, ways=ways)]


def _turned(measures: Measures) -> Iterator[Edit | None]:
    """The kick the other way up, or a little later or earlier."""
    kick = measures.stack.kick
    yield SetValue(path="kick/polarity", value="normal" if kick.polarity == "inverted" else "inverted")
    for by in OFFSETS_TRIED_MS:
        yield SetValue(path="kick/offset_ms", value=round(kick.offset_ms + by, 2))


RULES = (
    Rule("kick-level", "Kick over bass", "dB", Limits(0.0, 3.0), "common practice", kick_level),
    Rule("kick-phase", "Kick and sub", "dB", Limits(0.5, 3.0), "common practice", kick_phase),
    Rule("kick-clash", "Kick and bass overlap", "% of kick", Limits(40.0, 70.0), "common practice", kick_clash),
    Rule("duck-recovery", "Duck recovers", "dB", Limits(RECOVERED_DB, 3.0), "common practice", duck_recovery),
)
