"""One hit in the place of the Passage: bass before and after, kick, and their sum, in three rows on one time axis."""

from __future__ import annotations

import numpy as np

from apilado.core.document.stack import Stack
from apilado.core.dsp.audio import Audio
from apilado.core.measure.ducking import headroom_won
from apilado.core.measure.passage import outline
from apilado.core.soundings.measures import Measures
from apilado.core.units import db_to_gain, gain_to_db
from apilado.web.drawings.lines import beat_grid
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import View

ROWS = ("bass: before faint, after solid", "kick", "sum")
MARGIN = 18.0


def row_of(view: View, index: int) -> tuple[float, float]:
    """(top, bottom) of a row in pixels."""
    height = view.height / len(ROWS)
    return index * height, (index + 1) * height


def hit_plan(stack: Stack, view: View) -> str:
    """The rows and the beats."""
    parts = [beat_grid(stack, view, view.height)]
    for index, name in enumerate(ROWS):
        top, bottom = row_of(view, index)
        middle = (top + bottom) / 2.0
        parts.append(tag("line", class_="grid", x1=0, x2=view.passage, y1=middle, y2=middle))
        parts.append(tag("line", class_="lane-line", x1=0, x2=view.passage, y1=bottom, y2=bottom))
        parts.append(label(name, 6, bottom - 6, class_="grid-label"))
    return "".join(parts)


def hit_measured(measures: Measures, view: View) -> str:
    """The waves of the stretch in view, all at one scale; the peak of the sum, with the ducks and without."""
    first, last = (measures.clock.sample_at(beat) for beat in view.beats(measures.stack))
    undone, done = measures.undone, measures.graph
    heard = measures.run_all([undone.bass, done.bass, done.kick, undone.output, done.output])
    before_bass, bass, kick, before, after = (audio[:, first:last] for audio in heard)
    won = headroom_won(before, after)
    loudest = max(float(np.max(np.abs(each), initial=0.0)) for each in (before_bass, bass, kick, after))
    scale = 1.0 / max(loudest, float(db_to_gain(-40.0)))
    parts = [
        _wave(before_bass, view, 0, scale, "bass-before"),
        _wave(bass, view, 0, scale, "bass-wave"),
        _wave(after, view, 2, scale, "sum-wave"),
    ]
    if "kick" in measures.heard_drums:
        parts.insert(2, _wave(kick, view, 1, scale, "kick-wave"))
    parts += _peak(after, view, scale)
    said = f"peaks at {won.after_db:.1f} dBFS; without ducks {won.before_db:.1f}: won {won.won_db:.1f} dB"
    _, bottom = row_of(view, 2)
    parts.append(
        label(said.replace("-", "−"), view.passage - 6, bottom - 6, class_="grid-label won", text_anchor="end")
    )
    return "".join(parts)


def _wave(audio: Audio, view: View, row: int, scale: float, class_: str) -> str:
    columns = max(16, int(view.passage))
    top, bottom = row_of(view, row)
    middle, half = (top + bottom) / 2.0, (bottom - top) / 2.0 - MARGIN
    shape = outline(audio, first=0, last=audio.shape[1], columns=columns)
    xs = (np.arange(columns) + 0.5) * view.passage / columns
    upper = [(float(x), middle - float(v) * scale * half) for x, v in zip(xs, shape.high, strict=True)]
    lower = [(float(x), middle - float(v) * scale * half) for x, v in zip(xs, shape.low, strict=True)]
    return tag("polygon", class_=class_, points=points(upper + lower[::-1]))


def _peak(audio: Audio, view: View, scale: float) -> list[str]:
    """A mark at the sample of the sum that reaches farthest."""
    if not audio.size:
        return []
    at = int(np.argmax(np.max(np.abs(audio), axis=0)))
    value = float(audio[np.argmax(np.abs(audio[:, at])), at])
    top, bottom = row_of(view, 2)
    x = (at + 0.5) / audio.shape[1] * view.passage
    y = (top + bottom) / 2.0 - value * scale * ((bottom - top) / 2.0 - MARGIN)
    said = f"{float(gain_to_db(abs(value))):.1f} dB".replace("-", "−")
    return [
        tag("circle", class_="peak-mark", cx=x, cy=y, r=4),
        label(said, x + 8, y + (12 if value < 0.0 else -2), class_="number small"),
    ]
