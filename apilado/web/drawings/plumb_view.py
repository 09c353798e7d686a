"""The view of Plumb: for each pair of neighbours their phase over frequency, and a few cycles of both and their sum."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.measure.alignment import Meeting
from apilado.core.measure.notes import segment
from apilado.core.soundings.alignment import Advice
from apilado.core.soundings.measures import Measures
from apilado.core.soundings.registry import limits_of
from apilado.core.units import midi_to_name, short_hz
from apilado.web.drawings.svg import label, points, tag

PHASE_WIDTH, WAVE_WIDTH, HEIGHT = 180.0, 190.0, 180.0
CYCLES = 5.0
LOUD_ENOUGH = 0.02
MOST_HARMONICS = 2


@dataclass(frozen=True)
class NoteRow:
    """One meeting in the table of a pair; alike notes are one row."""

    name: str
    times: int
    phase_deg: float
    delay_ms: float
    gain_db: float
    promised_db: float
    remark: str
    harmonics: str
    """Phase at the harmonics near the border."""


@dataclass(frozen=True)
class PairView:
    """One pair of neighbours."""

    title: str
    lower: Layer
    upper: Layer
    phase: str
    waves: str
    rows: list[NoteRow]
    meets: bool


def pair_views(measures: Measures, advice: Advice) -> list[PairView]:
    """Every pair that shares a border, in the order of the borders."""
    stack = measures.stack
    pairs: dict[tuple[int, str, str], list[int]] = {}
    for index, m in enumerate(advice.meetings):
        pairs.setdefault((m.border, m.lower, m.upper), []).append(index)
    views = []
    for (border, lower_id, upper_id), indices in pairs.items():
        lower, upper = stack.layer(lower_id), stack.layer(upper_id)
        if lower is None or upper is None:
            continue
        met = [advice.meetings[i] for i in indices]
        views.append(
            PairView(
                title=f"{lower.name} and {upper.name} at {short_hz(stack.crossovers[border].frequency_hz)}",
                lower=lower,
                upper=upper,
                phase=_phase_drawing(met, stack),
                waves=_wave_drawing(measures, max(met, key=lambda m: m.balance_db)),
                rows=_rows(advice, indices),
                meets=any(m.meets for m in met),
            )
        )
    return views


def _rows(advice: Advice, indices: list[int]) -> list[NoteRow]:
    alike: dict[tuple[int, float, float], list[int]] = {}
    for index in indices:
        m = advice.meetings[index]
        key = (m.pitch, round(m.gain_db(), 1), round(m.phase_deg / 5.0))
        alike.setdefault(key, []).append(index)
    rows = []
    for same in alike.values():
        m = advice.meetings[same[0]]
        remark = "" if m.meets else f"{-m.balance_db:.0f} dB apart: they do not meet"
        if m.meets and m.drifts:
            remark = "drifts"
        rows.append(
            NoteRow(
                name=f"{midi_to_name(m.pitch)}, {m.fundamental_hz:.0f} Hz",
                times=len(same),
                phase_deg=m.phase_deg,
                delay_ms=m.delay_ms,
                gain_db=advice.solution.before_db[same[0]],
                promised_db=advice.solution.after_db[same[0]],
                remark=remark,
                harmonics=", ".join(f"{n}: {p:.0f}°".replace("-", "−") for n, p in m.harmonics_deg[:MOST_HARMONICS]),
            )
        )
    return sorted(rows, key=lambda row: (bool(row.remark), row.gain_db))


def _phase_drawing(met: list[Meeting], stack: Stack) -> str:
    """Phase of the upper against the lower over the octave around the border: faint for each note, bold for all."""
    border = stack.crossovers[met[0].border].frequency_hz
    low, high = border / math.sqrt(2.0), border * math.sqrt(2.0)

    def y(frequency: float) -> float:
        return HEIGHT * (1.0 - math.log(frequency / low) / math.log(high / low))

    def x(degrees: float) -> float:
        return PHASE_WIDTH * (0.5 + degrees / 360.0)

    good = limits_of(stack, "plumb").look
    parts = [tag("rect", class_="plumb-good", x=x(-good), y=0, width=x(good) - x(-good), height=HEIGHT)]
    for degrees in (-180, -90, 0, 90, 180):
        parts.append(tag("line", class_="grid", x1=x(degrees), x2=x(degrees), y1=0, y2=HEIGHT))
    for degrees in (-90, 0, 90):
        parts.append(label(f"{degrees}°".replace("-", "−"), x(degrees) + 2, HEIGHT - 4, class_="grid-label"))
    parts.append(tag("line", class_="border-line", x1=0, x2=PHASE_WIDTH, y1=y(border), y2=y(border)))
    parts.append(label(short_hz(border), 4, y(border) - 4, class_="number"))
    for m in met:
        if m.meets:
            parts += _trace(m, x, y, "plumb-note")
    mean = np.mean([m.phase_deg for m in met if m.meets] or [0.0])
    if any(m.meets for m in met):
        loudest = max((m for m in met if m.meets), key=lambda m: m.balance_db)
        parts += _trace(loudest, x, y, "plumb-all")
        over_all = _all_phase(met)
        at = x(over_all if not math.isnan(over_all) else float(mean))
        parts.append(tag("path", class_="bob", d=f"M{at - 5:.1f} {y(border) - 2:.1f} h10 l-5 12 z"))
    size = {"width": PHASE_WIDTH, "height": HEIGHT, "viewBox": f"0 0 {PHASE_WIDTH:.0f} {HEIGHT:.0f}"}
    return tag("svg", *parts, **size, class_="drawing", role="img", aria_label="Phase over frequency")


def _all_phase(met: list[Meeting]) -> float:
    total = sum((complex(np.sum(m.cross)) for m in met if m.meets and not m.drifts), 0j)
    return math.degrees(np.angle(total)) if abs(total) > 0.0 else float("nan")


def _trace(m: Meeting, x, y, class_: str) -> list[str]:  # type: ignore[no-untyped-def]
    """Points at the bins that carry energy, joined where they do not jump round."""
    sizes = np.abs(m.cross)
    loud = sizes > LOUD_ENOUGH * float(np.max(sizes, initial=0.0))
    phases = np.degrees(np.angle(m.cross[loud]))
    pairs = [(x(float(p)), y(float(f))) for p, f in zip(phases, m.frequencies_hz[loud], strict=True)]
    runs: list[list[tuple[float, float]]] = [[]]
    for pair in pairs:
        if runs[-1] and abs(pair[0] - runs[-1][-1][0]) > PHASE_WIDTH / 2.0:
            runs.append([])
        runs[-1].append(pair)
    return [tag("polyline", class_=class_, points=points(run)) for run in runs if len(run) > 1]


def _wave_drawing(measures: Measures, m: Meeting) -> str:
    """A few cycles of both layers and their sum, in the octave around the border, from the middle of a note."""
    rate = measures.clock.rate_hz
    count = int(CYCLES * rate / m.border_hz)
    start = measures.clock.sample_at(m.start_beats) + int(0.06 * rate)
    sounds = [measures.run(measures.graph.placed[name]) for name in (m.lower, m.upper)]
    lower, upper = (_band(sound, start, count, m, rate) for sound in sounds)
    total = lower + upper
    most = max(float(np.max(np.abs(total))), float(np.max(np.abs(lower))), float(np.max(np.abs(upper))), 1e-9)
    middle = HEIGHT / 2.0
    xs = np.linspace(0.0, WAVE_WIDTH, len(total))

    def line(values: np.ndarray, class_: str, tint: str = "") -> str:
        pairs = ((float(a), middle - float(b) / most * (middle - 18.0)) for a, b in zip(xs, values, strict=True))
        return tag("polyline", class_=f"{class_} {tint}".strip(), points=points(pairs))

    stack = measures.stack
    tints = [f"tint-{layer.tint}" if layer else "" for layer in (stack.layer(m.lower), stack.layer(m.upper))]
    parts = [
        tag("line", class_="grid", x1=0, x2=WAVE_WIDTH, y1=middle, y2=middle),
        line(total, "wave-sum"),
        line(lower, "wave-one", tints[0]),
        line(upper, "wave-one", tints[1]),
        label(f"{CYCLES:.0f} cycles of the border, in {midi_to_name(m.pitch)}", 4, 13, class_="grid-label"),
    ]
    size = {"width": WAVE_WIDTH, "height": HEIGHT, "viewBox": f"0 0 {WAVE_WIDTH:.0f} {HEIGHT:.0f}"}
    return tag("svg", *parts, **size, class_="drawing", role="img", aria_label="Both layers and their sum")


def _band(audio: Audio, start: int, count: int, m: Meeting, rate_hz: int) -> np.ndarray:
    """The mono sum in the octave around the border, from a stretch with room on both sides."""
    room = int(0.05 * rate_hz)
    part = segment(audio, start - room, count + 2 * room)
    mono = (part[0] + part[1]) / 2.0
    spectrum = np.fft.rfft(mono * np.hanning(len(mono)))
    at = np.fft.rfftfreq(len(mono), 1.0 / rate_hz)
    inside = (at >= m.border_hz / math.sqrt(2.0)) & (at <= m.border_hz * math.sqrt(2.0))
    band = np.fft.irfft(np.where(inside, spectrum, 0.0), len(mono))[room : room + count]
    return np.asarray(band[:: max(1, count // 600)])
