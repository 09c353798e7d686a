"""Kick, bass and ceiling, moved jointly: one remedy for headroom and for the kick over the bass.

Bass and ceiling move by the same amount, so that a limiter does as much as before. What a move makes of the mix's peak
is rendered, and everything comes down by what is too much.
"""

from __future__ import annotations

from collections.abc import Iterator

from apilado.core.document.declarations import parameter_at
from apilado.core.document.edits import AnyEdit, Several, apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.stack import Stack
from apilado.core.measure.loudness import Loudness, measure_loudness
from apilado.core.render.graph import build
from apilado.core.render.stage import stage
from apilado.core.soundings.measures import Measures
from apilado.core.units import gain_to_db

KICK_OVER_BASS_DB = (2.0, 4.0)
AIM_DB = 3.0
CEILING_DB = -1.0
SPARE_DB = 0.1
MOST_LIMITED_DB = 4.0
"""A limiter that takes more than this off the peaks is heard."""
LEAST_DB = 0.05


def level_ways(measures: Measures) -> Iterator[Several | None]:
    """Ways to bring the kick to its place over the bass, and the mix under the peak that the stack allows."""
    own = measures.stack.limits.get("headroom")
    peak_db = CEILING_DB if own is None or own.look is None else own.look
    value = measures.kick_over_bass_db
    short = 0.0 if value is None or KICK_OVER_BASS_DB[0] <= value <= KICK_OVER_BASS_DB[1] else AIM_DB - value
    shares = (1.0, 0.5, 0.0) if short else (0.0,)
    for share in shares:
        yield _under(measures, share * short, (share - 1.0) * short, peak_db)
    for share in shares:
        yield _limited(measures, share * short, (share - 1.0) * short, peak_db)


def _under(measures: Measures, kick_db: float, bass_db: float, peak_db: float) -> Several | None:
    """Kick and bass moved, and everything down by what is then too much."""
    over = _over(measures, kick_db, bass_db, peak_db)
    if over is None:
        return None
    return moved_levels(measures.stack, kick_db - over, bass_db - over, shared_down_db=over)


def _limited(measures: Measures, kick_db: float, bass_db: float, peak_db: float) -> Several | None:
    """The same, with the bass's own limiter holding its peaks down: the bass loses less of its loudness."""
    over = _over(measures, kick_db, bass_db, peak_db)
    if not over or measures.bass.peak <= 0.0:
        return None
    ceiling = float(gain_to_db(measures.bass.peak)) + bass_db - over
    moved = moved_levels(
        measures.stack,
        kick_db - over,
        bass_db - over + min(over, MOST_LIMITED_DB),
        ceiling_db=ceiling,
        shared_down_db=over,
    )
    return None if moved is None else Several(name=f"{moved.name}; the limiter holds the peaks", edits=moved.edits)


def _over(measures: Measures, kick_db: float, bass_db: float, peak_db: float) -> float | None:
    """By how much the mix would peak too high with kick and bass moved, 0 if it would not; None out of range."""
    moved = moved_levels(measures.stack, kick_db, bass_db)
    if moved is None and abs(kick_db) + abs(bass_db) > 0.0:
        return None
    peak = _true_peak(measures, apply(measures.stack, moved) if moved else measures.stack)
    return max(0.0, peak - peak_db + SPARE_DB) if peak > peak_db else 0.0


def moved_levels(
    stack: Stack,
    kick_db: float,
    bass_db: float,
    *,
    ceiling_db: float | None = None,
    shared_down_db: float = 0.0,
) -> Several | None:
    """Kick and bass moved by so much, the bass's ceiling with it; None where nothing moves, or a range ends before.

    What both go through together has a ceiling of its own, which goes down with everything.

    Args:
        ceiling_db: the bass's limiter is on, with this ceiling.
        shared_down_db: by how much the ceiling of what both go through comes down.
    """
    wanted: dict[str, float] = {}
    if kick_db:
        wanted["kick/level_db"] = stack.kick.level_db + kick_db
    if bass_db:
        wanted["bus/level_db"] = stack.bus.level_db + bass_db
    if ceiling_db is not None:
        wanted["bus/limiter/ceiling_db"] = ceiling_db
    elif bass_db and stack.bus.limiter.on:
        wanted["bus/limiter/ceiling_db"] = stack.bus.limiter.ceiling_db + bass_db
    if shared_down_db and stack.shared.on and stack.shared.limiter.on:
        wanted["shared/limiter/ceiling_db"] = stack.shared.limiter.ceiling_db - shared_down_db
    for path, level in wanted.items():
        declared = parameter_at(stack, path)
        if declared is None or not declared.low <= level <= declared.high:
            return None
    edits: list[AnyEdit] = [SetValue(path=path, value=round(to, 2)) for path, to in wanted.items()]
    if ceiling_db is not None and not stack.bus.limiter.on:
        edits.append(SetValue(path="bus/limiter/on", value=True))
    return Several(name=_said(kick_db, bass_db), edits=tuple(edits)) if edits else None


def _said(kick_db: float, bass_db: float) -> str:
    if abs(kick_db - bass_db) < LEAST_DB:
        return f"Everything {_way(kick_db)}"
    said = [f"{what} {_way(by)}" for what, by in (("Kick", kick_db), ("bass", bass_db)) if abs(by) >= LEAST_DB]
    name = ", ".join(said) or "Levels as they are"
    return name[0].upper() + name[1:]


def _way(by_db: float) -> str:
    return f"{'up' if by_db > 0.0 else 'down'} by {abs(by_db):.1f} dB"


def _true_peak(measures: Measures, stack: Stack) -> float:
    output = build(stack, measures.clock, measures.load).output
    found: Loudness = measures.run(stage(measure_loudness, output, rate_hz=measures.clock.rate_hz, looped=True))
    return found.true_peak_dbtp
