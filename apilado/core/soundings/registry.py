"""Every sounding there is, in the order of the work. A new one is a rule in a file of its theme and its line there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from types import MappingProxyType

from apilado.core.document.stack import Stack
from apilado.core.soundings import balance, borders, driven, kick, shares, sub, sub_sound, wide
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import SEVERITY, Limits, Rule, Sounding

RULES: tuple[Rule, ...] = (
    *sub_sound.RULES,
    *sub.RULES,
    *borders.RULES,
    *shares.RULES,
    *wide.RULES,
    *driven.RULES,
    *balance.RULES,
    *kick.RULES,
)


RULE_OF = MappingProxyType({rule.id: rule for rule in RULES})


def limits_of(stack: Stack, rule_id: str) -> Limits:
    """The limits of a rule in a stack: its own, or as the stack changes them."""
    return RULE_OF[rule_id].limits.overridden(stack.limits.get(rule_id))


def in_sections(stack: Stack, beats: Sequence[float]) -> str:
    """'In fill, bar 4': where all of some beats lie in sections; '' where they do not."""
    named: dict[str, set[int]] = {}
    for beat in beats:
        bar = int(beat // stack.beats_per_bar) + 1
        section = next((each for each in stack.sections if each.first_bar <= bar <= each.last_bar), None)
        if section is None:
            return ""
        named.setdefault(section.name, set()).add(bar)
    said = [
        f"{name}, bar{'s' if len(bars) > 1 else ''} {', '.join(map(str, sorted(bars)))}" for name, bars in named.items()
    ]
    return f"In {'; in '.join(said)}" if said else ""


def sound(measures: Measures) -> list[Sounding]:
    """All soundings of a stack, the worst first, else in the order of the work.

    Raises:
        Overtaken: they are not wanted any more.
    """
    found: list[Sounding] = []
    for rule in RULES:
        measures.check()
        limits = limits_of(measures.stack, rule.id)
        for told in rule.ask(rule, limits, measures):
            judged = told.value if told.judged is None else told.judged
            where = in_sections(measures.stack, told.show.beats)
            sentence = f"{where}: {told.sentence}" if where else told.sentence
            found.append(replace(told, sentence=sentence, burden=limits.burden(told.status, judged)))
    return sorted(found, key=lambda sounding: SEVERITY[sounding.status])
