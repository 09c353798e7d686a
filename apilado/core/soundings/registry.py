"""Every sounding there is, in the order of the work. A new one is a rule in a file of its theme and its line there."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from types import MappingProxyType

from apilado.core.document.stack import Stack
from apilado.core.soundings import balance, borders, kick, shares, sub, sub_sound
from apilado.core.soundings.further import prefetch
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import SEVERITY, Limits, Rule, Sounding

RULES: tuple[Rule, ...] = (
    *sub_sound.RULES,
    *sub.RULES,
    *borders.RULES,
    *shares.RULES,
    *balance.RULES,
    *kick.RULES,
)


RULE_OF = MappingProxyType({rule.id: rule for rule in RULES})


def limits_of(stack: Stack, rule_id: str) -> Limits:
    """The limits of a rule in a stack: its own, or as the stack changes them."""
    return RULE_OF[rule_id].limits.overridden(stack.limits.get(rule_id))


def sound(measures: Measures, check: Callable[[], None] = lambda: None) -> list[Sounding]:
    """All soundings of a stack, the worst first, else in the order of the work.

    `check` is called now and then, and may raise to end it.
    """
    prefetch(measures)
    found: list[Sounding] = []
    for rule in RULES:
        check()
        limits = limits_of(measures.stack, rule.id)
        for told in rule.ask(rule, limits, measures):
            judged = told.value if told.judged is None else told.judged
            found.append(replace(told, burden=limits.burden(told.status, judged)))
    return sorted(found, key=lambda sounding: SEVERITY[sounding.status])
