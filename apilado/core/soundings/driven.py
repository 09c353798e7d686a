"""Soundings of the paths: steps that make a sound louder, and drives that leave it no peaks."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from typing import Any

from apilado.core.document.addresses import find, joined, owner_of, parted, parts_of
from apilado.core.document.declarations import parameter_at
from apilado.core.document.editing import Edit
from apilado.core.document.edits import Several
from apilado.core.document.edits_values import SetValue
from apilado.core.document.naming import place_name
from apilado.core.measure.crest import crest_db
from apilado.core.render import steps
from apilado.core.render.stage import Stage, stage
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding
from apilado.core.treatments.base import Treatment
from apilado.core.units import gain_to_db

OUTPUTS = ("output_db", "makeup_db")
"""What a step that cannot keep the level is turned down by."""
NEVER = 60.0


@dataclass(frozen=True)
class Jump:
    """A step, and by how much louder it comes out."""

    address: str
    by_lu: float


def stages(measures: Measures) -> list[Stage]:
    """What these soundings ask: computed at once, before they ask one after the other."""
    return [*_jump_stages(measures).values(), *[each for pair in _crest_stages(measures).values() for each in pair]]


def _treatments(measures: Measures) -> dict[str, Treatment]:
    """The treatments that are heard, by their addresses, in the order of their paths."""
    found = {}
    owners = [*(f"layers/{layer.id}" for layer in measures.stack.audible_layers()), "bus"]
    for owner in [*owners, "shared"] if "shared" in measures.graph.buses else owners:
        for address, step in measures.stack.steps_of(owner).items():
            if isinstance(step, Treatment) and step.on and address in measures.graph.passed:
                found[address] = step
    return found


def _jump_stages(measures: Measures) -> dict[str, Stage]:
    """Of steps that say how loud they come out: the gain that would make that as loud as what goes in."""
    found = {}
    for address, step in _treatments(measures).items():
        if _kept_by(step):
            passed = measures.graph.passed[address]
            rate = measures.clock.rate_hz
            found[address] = stage(steps.level_gain, passed.before, passed.after, rate_hz=rate)
    return found


def _kept_by(step: Treatment) -> str:
    """The value of a step by which its level is kept; '' where its level is what it is for."""
    names = ("keep_level", *OUTPUTS)
    return next((name for name in names if name in type(step).model_fields), "")


def jumps(measures: Measures) -> tuple[Jump, ...]:
    """The steps by how much louder they come out than what goes in, the loudest first."""
    wanted = _jump_stages(measures)
    gains = measures.run_all(list(wanted.values()))
    found = [Jump(address, -float(gain_to_db(gain))) for address, gain in zip(wanted, gains, strict=True)]
    return tuple(sorted(found, key=lambda jump: -jump.by_lu))


def level_jump(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Does a step make its sound so much louder that it is taken for better?"""
    found = jumps(measures)
    limit = f"{limits.look:g} LU"
    if not found:
        return []
    said = [jump for jump in found if limits.status(jump.by_lu) != "fine"]
    if not said:
        return [rule.sounding("fine", max(0.0, found[0].by_lu), limit, "bus", "No step makes its sound much louder.")]
    told = []
    for jump in said:
        name = place_name(measures.stack, jump.address)
        text = f"{name[:1].upper()}{name[1:]} makes it {jump.by_lu:.1f} LU louder. Louder is not better:"
        text += " kept as loud as it was, you hear what it does."
        kind, layer, *_ = parts_of(jump.address)
        place = Place((layer,)) if kind == "layers" else Place()
        ways = partial(_kept, measures, jump)
        status = limits.status(jump.by_lu)
        told.append(rule.sounding(status, jump.by_lu, limit, jump.address, text, show=place, ways=ways))
    return told


def _kept(measures: Measures, jump: Jump) -> Iterator[Edit | None]:
    """The step keeps the level, and what it had added goes into the level of the layer or bus; or that alone."""
    step = find(measures.stack, jump.address)
    name = _kept_by(step)
    path = joined(jump.address, name)
    if name == "keep_level":
        own = SetValue(path=path, value=True)
    else:
        parameter = parameter_at(measures.stack, path)
        if parameter is None or not isinstance(getattr(step, name), int | float):
            return
        own = SetValue(path=path, value=round(max(parameter.low, getattr(step, name) - jump.by_lu), 1))
    owner = owner_of(jump.address)
    level = joined(owner, "level_db")
    if parted(parted(jump.address)[0])[0] == owner:  # not in a chain of a container
        louder = round(float(find(measures.stack, level)) + jump.by_lu, 1)
        parameter = parameter_at(measures.stack, level)
        if parameter is not None and louder <= parameter.high:
            name = f"Keep the level of {place_name(measures.stack, jump.address)}"
            yield Several(name=name, edits=(own, SetValue(path=level, value=louder)))
    yield own


def _drives(measures: Measures) -> dict[str, list[str]]:
    """The addresses of the drives of each path that has more than one, by the address of what has the path."""
    found: dict[str, list[str]] = {}
    for address, step in _treatments(measures).items():
        if step.has_curve:
            found.setdefault(parted(parted(address)[0])[0], []).append(address)
    return {holder: drives for holder, drives in found.items() if len(drives) > 1}


def _crest_stages(measures: Measures) -> dict[str, tuple[Stage, Stage]]:
    """(before the first drive, behind the last) of each path with several of them."""
    passed, given = measures.graph.passed, dict[str, Any](rate_hz=measures.clock.rate_hz)
    return {
        holder: (stage(crest_db, passed[first].before, **given), stage(crest_db, passed[last].after, **given))
        for holder, (first, *_, last) in _drives(measures).items()
    }


def crushed(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do drives in a row leave a sound without peaks?"""
    drives, told = _drives(measures), []
    limit = f"{-limits.look:g} dB"
    for holder, (before, after) in _crest_stages(measures).items():
        had, left = measures.run_all([before, after])
        if had is None or left is None or left >= had:
            continue
        where, name = holder, place_name(measures.stack, holder)
        status = limits.status(-left)
        text = f"Behind {len(drives[holder])} drives the peaks of '{name}' stand {left:.1f} dB over its level;"
        text += f" before them {had:.1f} dB."
        if status != "fine":
            text += " Little is left to move: less of each, or one of them, keeps the weight."
        kind, layer, *_ = (*parts_of(holder), "")
        place = Place((layer,)) if kind == "layers" else Place()
        told.append(rule.sounding(status, left, limit, where, text, show=place, judged=-left))
    return told


RULES = (
    Rule("level-jump", "Louder", "LU", Limits(3.0, 12.0), "common practice: compare at the same loudness", level_jump),
    Rule("crushed", "Crest", "dB", Limits(-3.0, NEVER), "a sine has a crest of 3.01 dB", crushed),
)
