"""Soundings of the borders: the split's sum, and how neighbours stand on each other."""

from __future__ import annotations

from apilado.core.document.editing import Edit
from apilado.core.document.edits import Several
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.measure.phase import BorderPhase, best_alignment
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.sounding import Limits, Place, Rule, Sounding

WORTHWHILE_DB = 0.3
LONGEST_DELAY_MS = 50.0


def split_flat(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Does what was split sum to the whole again?"""
    found = []
    stack = measures.stack
    for item in measures.ripples:
        value = abs(item.ripple.deviation_db)
        status = limits.status(value)
        border = stack.crossovers[item.crossover]
        names = " and ".join(f"'{_named(stack, name)}'" for name in item.layers)
        where = f"crossovers/{item.crossover}"
        place = Place(item.layers, border.frequency_hz / 2**0.5, border.frequency_hz * 2**0.5)
        limit = f"{limits.look:g} dB"
        fix: Edit | None = None
        if status == "fine":
            text = f"{names} sum flat at {border.frequency_hz:.0f} Hz, within {value:.2f} dB."
        else:
            kind = "dip" if item.ripple.deviation_db < 0 else "bump"
            text = f"{names} leave a {kind} of {value:.1f} dB at {item.ripple.frequency_hz:.0f} Hz in their sum."
            fix = _straightened(stack, item.layers, item.crossover)
            if fix is not None:
                text += " Polarity, delay or overlap sets them apart."
        found.append(rule.sounding(status, value, limit, where, text, show=place, fix=fix))
    return found


def _named(stack: Stack, layer_id: str) -> str:
    layer = stack.layer(layer_id)
    return layer.name if layer else layer_id


def _straightened(stack: Stack, layer_ids: tuple[str, ...], crossover: int) -> Edit | None:
    """Takes polarity and delay off the layers and the overlap off their border, where there are any."""
    edits: list[SetValue] = []
    if stack.crossovers[crossover].overlap_octaves > 0.0:
        edits.append(SetValue(path=f"crossovers/{crossover}/overlap_octaves", value=0.0))
    for layer in stack.layers:
        if layer.id in layer_ids and layer.polarity == "inverted":
            edits.append(SetValue(path=f"layers/{layer.id}/polarity", value="normal"))
        if layer.id in layer_ids and layer.delay_ms > 0.0:
            edits.append(SetValue(path=f"layers/{layer.id}/delay_ms", value=0.0))
    return Several(name="Straighten the split", edits=tuple(edits)) if edits else None


def plumb(rule: Rule, limits: Limits, measures: Measures) -> list[Sounding]:
    """Do neighbours add up at their border, or cancel?"""
    return [_plumb_at(rule, limits, measures, index, border) for index, border in measures.borders]


def _plumb_at(rule: Rule, limits: Limits, measures: Measures, index: int, border: BorderPhase) -> Sounding:
    stack = measures.stack
    names = f"'{_named(stack, border.lower)}' and '{_named(stack, border.upper)}'"
    where = f"crossovers/{index}"
    place = Place((border.lower, border.upper), border.frequency_hz / 2**0.5, border.frequency_hz * 2**0.5)
    limit = f"{limits.look:g}°"
    at = f"at {border.frequency_hz:.0f} Hz"
    turned, gain = abs(border.phase_deg), border.coherence_gain_db
    if not border.meets:
        text = f"{names} hardly meet {at}: the quieter is {-border.balance_db:.0f} dB below."
        return rule.sounding("fine", None, limit, where, text, show=place)
    if border.drifts:
        text = f"{names} drift against each other {at}: they neither add nor cancel for long ({gain:+.1f} dB)."
        return rule.sounding("fine", None, limit, where, text, show=place)
    status = limits.status(turned)
    if status == "fine":
        text = f"{names} stand plumb {at}: {border.phase_deg:+.0f}°, coherence gain {gain:+.1f} dB."
        return rule.sounding(status, turned, limit, where, text, show=place)
    text = f"{names} are {border.phase_deg:+.0f}° apart {at}: coherence gain {gain:+.1f} dB, where +3 is the most."
    return rule.sounding(status, turned, limit, where, text, show=place, fix=_replumbed(measures, border))


def _replumbed(measures: Measures, border: BorderPhase) -> Edit | None:
    best = best_alignment(measures.stems[border.lower], measures.stems[border.upper], border.frequency_hz)
    if best.coherence_gain_db < border.coherence_gain_db + WORTHWHILE_DB:
        return None
    lower, upper = measures.stack.layer(border.lower), measures.stack.layer(border.upper)
    if lower is None or upper is None:
        return None
    edits: list[SetValue] = []
    if best.invert:
        flipped = "normal" if upper.polarity == "inverted" else "inverted"
        edits.append(SetValue(path=f"layers/{upper.id}/polarity", value=flipped))
    edits += _delays(lower, upper, best.delay_ms)
    if not edits:
        return None
    return Several(name=f"Plumb {upper.name} on {lower.name}", edits=tuple(edits))


def _delays(lower: Layer, upper: Layer, delay_ms: float) -> list[SetValue]:
    """Delays the upper against the lower; what they have in common is taken off both."""
    low, high = lower.delay_ms, upper.delay_ms + delay_ms
    common = min(low, high)
    wanted = {lower.id: (lower.delay_ms, low - common), upper.id: (upper.delay_ms, high - common)}
    return [
        SetValue(path=f"layers/{name}/delay_ms", value=round(min(new, LONGEST_DELAY_MS), 3))
        for name, (old, new) in wanted.items()
        if abs(new - old) > 1e-4
    ]


RULES = (
    Rule(
        "split-flat",
        "Split flat",
        "dB",
        Limits(0.5, 2.0),
        "Linkwitz 1976: matched borders sum to an all-pass",
        split_flat,
    ),
    Rule("plumb", "Plumb", "°", Limits(45.0, 90.0), "common practice", plumb),
)
