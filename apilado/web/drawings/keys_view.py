"""A multisample on the keyboard: which keys each sample is played by, and the note that it was rendered at."""

from __future__ import annotations

from apilado.actions.multisampling import MultisampleOptions
from apilado.core.units import midi_to_name
from apilado.web.drawings.svg import label, tag

WIDTH, HEIGHT = 1200.0, 46.0
LOWEST, HIGHEST = 12, 96
"""The keys that are drawn: basses are played within them."""
BLACK = frozenset({1, 3, 6, 8, 10})
OCTAVE = 12


def keys_view(options: MultisampleOptions) -> str:
    """SVG of the keys, the range of each sample, and its root."""
    each = WIDTH / (HIGHEST - LOWEST + 1)

    def x(key: int) -> float:
        return (min(max(key, LOWEST), HIGHEST + 1) - LOWEST) * each

    parts = [
        tag("rect", class_="key-black", x=x(key), y=22.0, width=each, height=12.0)
        for key in range(LOWEST, HIGHEST + 1)
        if key % OCTAVE in BLACK
    ]
    for key in range(LOWEST, HIGHEST + 1, OCTAVE):
        parts.append(tag("line", class_="rule", x1=x(key), x2=x(key), y1=20.0, y2=HEIGHT))
        parts.append(label(midi_to_name(key), x(key) + 3.0, HEIGHT - 1.0, class_="axis-number"))
    for pitch in options.pitches():
        low, high = options.keys(pitch)
        parts.append(tag("rect", class_="key-range", x=x(low), y=4.0, width=x(high + 1) - x(low), height=18.0))
        if LOWEST <= pitch <= HIGHEST:
            parts.append(tag("rect", class_="key-root", x=x(pitch), y=4.0, width=each, height=18.0))
    said = f"{len(options.pitches())} notes from {midi_to_name(options.lowest)} to {midi_to_name(options.highest)}"
    box = f"0 0 {WIDTH:.0f} {HEIGHT:.0f}"
    return tag("svg", *parts, viewBox=box, role="img", class_="keys-drawing", aria_label=said)
