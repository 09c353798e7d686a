"""What sheets say beside their controls because it was measured: drums, ducks, buses, balance."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.document.addresses import get, within
from apilado.core.document.editing import Edit
from apilado.core.document.edits_values import SetValue
from apilado.core.document.naming import numbered, place_name
from apilado.core.measure.bands import NOMINAL_THIRDS, band_centres
from apilado.core.soundings.comparison import balance_against_piece, balance_against_target
from apilado.core.soundings.fitting import GAP_SHARE, fitted_duck, longest_recovering
from apilado.core.soundings.low_end import fold_down_bands
from apilado.core.soundings.measures import Measures
from apilado.web.drawings.svg import label, points, tag
from apilado.web.low_end import workshop
from apilado.web.sheets.drums import drum_name
from apilado.web.sheets.ducks import chosen_ducker

WIDTH, ROW = 284.0, 13.0
DECAY_HEIGHT, DECAY_DB = 76.0, 48.0
SHORT_GAP = 0.5


@dataclass(frozen=True)
class Meter:
    """One gain reduction."""

    name: str
    most_db: float
    mean_db: float


def _meter(name: str, reduction: NDArray[np.float32]) -> Meter:
    taken = np.max(np.atleast_2d(reduction), axis=0)
    return Meter(name, float(np.max(taken, initial=0.0)), float(np.mean(taken)))


def buses(measures: Measures, selected: str) -> dict[str, Any]:
    """Gain reductions, kick over bass, loudness."""
    stack, graph = measures.stack, measures.graph
    bus = {"bus": stack.bus, "space": stack.space, "shared": stack.shared}[selected]
    meters = []
    for path, passed in graph.passed.items():
        reduction = measures.run(passed.reduction) if passed.reduction and within(path, selected) else None
        if reduction is not None:
            part = get(stack, path)
            name = numbered(bus.path, part) if part in bus.path else place_name(stack, path).removesuffix(" of bus")
            meters.append(_meter(name[:1].upper() + name[1:], reduction))
    return {
        "meters": meters,
        "over_db": measures.kick_over_bass_db,
        "loudness": measures.output_loudness,
        "mono": fold_down_bands(measures) if selected == "bus" else None,
        "off": selected not in graph.buses,
    }


def drum(measures: Measures, selected: str) -> dict[str, Any]:
    """Pitch, punch, length; the tail against the first note after it."""
    stack, name = measures.stack, drum_name(measures.stack, selected)
    facts = measures.drum_facts(name)
    starts = sorted({note.start_beats for note in stack.played() if note.start_beats < stack.beats})
    waits = []
    for hit in stack.drum(name).hits:
        if starts and hit < stack.beats:
            following = next((start for start in starts if start >= hit), starts[0] + stack.beats)
            waits.append(60000.0 * (following - hit) / stack.tempo_bpm)
    over = measures.kick_over_bass_db if name == "kick" else None
    decay = decay_drawing(facts.envelope_db)
    return {"facts": facts, "wait_ms": min(waits, default=None), "decay": decay, "over_db": over}


def decay_drawing(envelope_db: NDArray[np.float64]) -> str:
    """How the low part of a hit dies away: level over time, with a line every 12 dB and every 100 ms."""
    count = max(2, len(envelope_db))

    def y(level: float) -> float:
        return min(1.0, -level / DECAY_DB) * (DECAY_HEIGHT - 4.0) + 2.0

    parts = [tag("line", class_="grid", x1=0, x2=WIDTH, y1=y(level), y2=y(level)) for level in (-12.0, -24.0, -36.0)]
    for ms in range(100, count, 100):
        x = ms / count * WIDTH
        parts.append(tag("line", class_="grid", x1=x, x2=x, y1=0, y2=DECAY_HEIGHT))
        parts.append(label(f"{ms} ms", x + 3, DECAY_HEIGHT - 4, class_="grid-label"))
    line = points((i * WIDTH / (count - 1), y(float(v))) for i, v in enumerate(envelope_db))
    parts.append(tag("polyline", class_="cycle", points=line))
    size = f"0 0 {WIDTH:.0f} {DECAY_HEIGHT:.0f}"
    return tag("svg", *parts, viewBox=size, class_="drawing cycle-drawing", aria_hidden="true")


@dataclass(frozen=True)
class DuckFacts:
    """What the sheet of a ducker says."""

    name: str
    deepest_db: float
    back_ms: float
    gap_ms: float
    recovered: bool
    slowest_ms: float
    advice: str
    longest: Edit | None
    longest_title: str
    fit: Edit | None
    fit_note: str
    before_db: float
    after_db: float
    won_db: float


def duck(measures: Measures, selected: str) -> dict[str, Any]:
    """How a duck comes back at this tempo, the shape that fits its trigger, the headroom that ducks win."""
    ducker = chosen_ducker(measures.stack, selected)
    hits = measures.recoveries.get(ducker.id, ()) if ducker else ()
    if ducker is None or not hits:
        return {"duck": None}
    gap = min(hit.gap_ms for hit in hits)
    back = ducker.shape.back_ms(measures.clock)
    recovered = all(hit.recovery_ms is not None for hit in hits)
    slowest = max(hit.recovery_ms if hit.recovery_ms is not None else hit.gap_ms for hit in hits)
    longest, title = None, ""
    if not recovered:
        shape = longest_recovering(measures, ducker)
        advice = "The bass does not come back before the next hit: shorten the way back."
        if shape is not None:
            longest = SetValue(path=f"duckers/{ducker.id}/shape", value=shape.model_dump(mode="json"))
            title = f"Shorten it to {shape.back_ms(measures.clock):.0f} ms"
    elif slowest < SHORT_GAP * gap:
        advice = f"There is room to spare: it could take up to {GAP_SHARE * gap:.0f} ms and still be back in time."
    else:
        advice = "It uses most of the gap and is back in time."
    fitted = fitted_duck(measures, ducker)
    won = measures.headroom
    note = ""
    if fitted is not None:
        s = fitted.shape
        note = (
            f"From the decay of {measures.stack.drum_names()[ducker.trigger].lower()}: {s.depth_db:.1f} dB, "
            f"hold {s.hold_ms:.0f} ms, release {s.release_ms:.0f} ms, "
            f"at most {fitted.fit.deviation_db:.1f} dB off."
        )
    return {
        "duck": DuckFacts(
            name=ducker.name,
            deepest_db=max(hit.depth_db for hit in hits),
            back_ms=back,
            gap_ms=gap,
            recovered=recovered,
            slowest_ms=slowest,
            advice=advice,
            longest=longest,
            longest_title=title,
            fit=fitted.edit if fitted and fitted.shape != ducker.shape else None,
            fit_note=note,
            before_db=won.before_db,
            after_db=won.after_db,
            won_db=won.won_db,
        )
    }


def balance(measures: Measures, selected: str) -> dict[str, Any]:
    """Differences per third-octave, from the target and from a finished piece."""
    if not measures.sounding:
        return {"target": "", "piece": "", "comparison": None, "stack": measures.stack}
    compared = balance_against_piece(measures)
    wider = ""
    if compared is not None and compared.width_difference is not None:
        widths = np.where(np.isnan(compared.difference_db), np.nan, 100.0 * compared.width_difference)
        wider = difference_drawing(widths, unit="%", steps=(10.0, 25.0, 50.0))
    return {
        "target": difference_drawing(balance_against_target(measures).difference_db),
        "piece": difference_drawing(compared.difference_db) if compared else "",
        "comparison": compared,
        "wider": wider,
        "stack": measures.stack,
    }


def difference_drawing(
    difference: NDArray[np.float64], *, unit: str = "dB", steps: tuple[float, float, float] = (3.0, 6.0, 12.0)
) -> str:
    """A bar for each third-octave, low at the bottom: to the right where the stack has more.

    Args:
        steps: what is worth a number, what is far, and what fills the drawing.
    """
    told, far, edge = steps
    centres = band_centres(3)
    height, middle, reach = ROW * len(centres), WIDTH / 2.0 + 14.0, WIDTH / 2.0 - 44.0
    parts = [tag("line", class_="eq-zero", x1=middle, x2=middle, y1=0, y2=height)]
    for level in (-far, far):
        x = middle + level / edge * reach
        parts.append(tag("line", class_="grid", x1=x, x2=x, y1=0, y2=height))
    for band, value in enumerate(difference):
        y = height - (band + 1) * ROW
        hertz = NOMINAL_THIRDS[band]
        if band % 3 == 1:
            parts.append(label(hertz, 34, y + ROW - 2, class_="grid-label", text_anchor="end"))
        if np.isnan(value):
            continue
        width = min(1.0, abs(float(value)) / edge) * reach
        state = "is-far" if abs(value) > far else "is-off" if abs(value) > told else "is-near"
        left = middle if value > 0 else middle - width
        said = tag("title", f"{hertz} Hz: {value:+.1f} {unit}".replace("-", "−"))
        parts.append(
            tag("rect", said, class_=f"difference {state}", x=left, y=y + 1, width=max(width, 0.5), height=ROW - 3)
        )
        if abs(value) > told:
            x, anchor = (middle + width + 3, "start") if value > 0 else (middle - width - 3, "end")
            shown = f"{value:+.0f}".replace("-", "−")
            parts.append(label(shown, x, y + ROW - 2, class_="number", text_anchor=anchor))
    size = f"0 0 {WIDTH:.0f} {height:.0f}"
    return tag("svg", *parts, viewBox=size, class_="drawing cycle-drawing", role="img", aria_label="Differences")


MEASURED_SHEETS: MappingProxyType[str, tuple[str, Callable[[Measures, str], dict[str, Any]]]] = MappingProxyType(
    {
        "sub": ("workshop", lambda measures, selected: {"workshop": workshop(measures)}),
        "bus": ("buses", buses),
        "space": ("buses", buses),
        "shared": ("buses", buses),
        "kick": ("drum", drum),
        "trigger": ("drum", drum),
        "duck": ("duck", duck),
        "balance": ("balance", balance),
    }
)
"""By kind of selection: the template, and what makes its values."""
