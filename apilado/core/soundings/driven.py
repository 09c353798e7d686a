"""Soundings of the paths: steps that make a sound louder, and drives that leave it no peaks."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

from apilado.core.clock import Clock
from apilado.core.document.addresses import find, joined, owner_of, parted, parts_of
from apilado.core.document.declarations import parameter_at
from apilado.core.document.editing import Edit
from apilado.core.document.edits import Several
from apilado.core.document.edits_values import SetValue
from apilado.core.document.naming import place_name
from apilado.core.document.stack import Stack
from apilado.core.render.graph import Graph
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding
from apilado.core.soundings.step_levels import crest_stages, drives_in, jump_stages, kept_by
from apilado.core.units import gain_to_db

NEVER = 60.0


@dataclass(frozen=True)
class Jump:
    """A step, and by how much louder it comes out."""

    address: str
    by_lu: float


def of(measures: Measures) -> tuple[Stack, Graph, Clock]:
    """What the stages of a path are made from."""
    return measures.stack, measures.graph, measures.clock


def owners(measures: Measures) -> list[str]:
    """The layers that are heard, and the buses."""
    heard = [*(f"layers/{layer.id}" for layer in measures.stack.audible_layers()), "bus"]
    return [*heard, *(bus for bus in ("space", "shared") if bus in measures.graph.buses)]


def jumps(measures: Measures) -> tuple[Jump, ...]:
    """The steps by how much louder they come out than what goes in, the loudest first."""
    wanted = {name: each for owner in owners(measures) for name, each in jump_stages(*of(measures), owner).items()}
    gains = measures.run_all(list(wanted.values()))
    found = [Jump(address, -float(gain_to_db(gain))) for address, gain in zip(wanted, gains, strict=True)]
    return tuple(sorted(found, key=lambda jump: -jump.by_lu))


def level_jump(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Does a step make its sound so much louder that it is taken for better?"""
    found = jumps(measures)
    limit = f"{limits.look:g} LU"
    if not found:
        return []
    # Of each layer and bus the step that does it most: the next is told when that is mended.
    loudest = {owner_of(jump.address): jump for jump in reversed(found)}
    said = [jump for jump in found if jump in loudest.values() and limits.status(jump.by_lu) != "fine"]
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
    name = kept_by(step)
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


def crushed(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do drives in a row leave a sound without peaks?"""
    drives = {name: each for owner in owners(measures) for name, each in drives_in(*of(measures)[:2], owner).items()}
    crests = {name: each for owner in owners(measures) for name, each in crest_stages(*of(measures), owner).items()}
    told, limit = [], f"{-limits.look:g} dB"
    for holder, (before, after) in crests.items():
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
