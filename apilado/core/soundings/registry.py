"""Every sounding there is, in the order of the work. A new one is a rule in a file of its theme and its line there."""

from __future__ import annotations

from apilado.core.soundings import balance, borders, kick, shares, sub, sub_sound
from apilado.core.soundings.further import prefetch
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import SEVERITY, Rule, Sounding

RULES: tuple[Rule, ...] = (
    *sub_sound.RULES,
    *sub.RULES,
    *borders.RULES,
    *shares.RULES,
    *balance.RULES,
    *kick.RULES,
)


def sound(measures: Measures) -> list[Sounding]:
    """All soundings of a stack, the worst first, else in the order of the work."""
    prefetch(measures)
    found: list[Sounding] = []
    for rule in RULES:
        limits = rule.limits.overridden(measures.stack.limits.get(rule.id))
        found += rule.ask(rule, limits, measures)
    return sorted(found, key=lambda sounding: SEVERITY[sounding.status])
