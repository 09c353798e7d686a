"""What is pulled in the Profile: the points of an EQ, or the harmonics of a tone."""

from __future__ import annotations

from collections import Counter
from html import escape

import numpy as np

from apilado.core.document.addresses import joined, within
from apilado.core.document.carving import CarvePair
from apilado.core.document.equaliser import Point, eq_sections, still_and_moving
from apilado.core.document.stack import BUSES, Stack
from apilado.core.dsp.filters import sections_response
from apilado.core.render.response import chains, split_sum
from apilado.core.sources.wave import MOST_HARMONICS
from apilado.core.units import gain_to_db, midi_to_hz, midi_to_name, short_hz
from apilado.web.drawings.lines import handle
from apilado.web.drawings.svg import label, points, tag
from apilado.web.drawings.view import (
    GAIN_SHARE,
    GAIN_SPAN_DB,
    HARMONIC_HIGH_DB,
    HARMONIC_LOW_DB,
    HIGHEST_HZ,
    LOWEST_HZ,
    View,
    band_edges_hz,
)
from apilado.web.items import point_key

CLOSEST_BARS = 4.0
MIDDLE_PITCH = 36


def eq_owner(stack: Stack, view: View) -> str | None:
    """Whose EQ the Profile shows: that of the selected layer, bus or drum."""
    layer = view.selected_layer(stack)
    if layer is not None:
        return f"layers/{layer.id}"
    kind, _, name = view.selected.partition(":")
    if kind == "trigger":
        return f"triggers/{name}" if name in stack.drum_names() else None
    return kind if kind in (*BUSES, "kick") else None


def eq_shown(stack: Stack, view: View, owner: str) -> str:
    """The address of the EQ of a part that is pulled: the one that was chosen, else the last; '' where it has none."""
    chosen = within(view.eq, owner) and view.eq in stack.equalisers()
    return view.eq if chosen else stack.last_eq(owner) or ""


def equaliser(stack: Stack, view: View) -> str:
    """The response of the EQ, and a tack for each of its points and carve pairs."""
    owner = eq_owner(stack, view)
    if owner is None:
        dashed = "Dashed: the target. " + ("Solid: the piece." if stack.reference else "")
        return _hint(view, dashed if view.selected == "balance" else "Choose a layer, bus or kick to carve.")
    path = eq_shown(stack, view, owner)
    members = stack.points_of(path) if path else ()
    still, moving = still_and_moving(members)
    middle = view.gain_x(0.0)
    parts = [
        tag("line", class_="eq-zero", x1=middle, x2=middle, y1=0, y2=view.height),
        tag("polyline", class_="eq-curve", points=_curve(stack, view, still)),
        _split_curve(stack, view),
        *[
            _tack(view, joined(path, "points", point.id), point)
            for point in (stack.equalisers()[path].points if path else ())
        ],
        *[_pair_tack(stack, view, pair, path) for pair in stack.pairs if path in (pair.dip, pair.lift)],
    ]
    if moving:
        opened = tag("title", "With the keyed bells open")
        parts.append(tag("polyline", opened, class_="eq-curve is-open", points=_curve(stack, view, members)))
    for gain in (-12.0, 12.0):
        x = view.gain_x(gain)
        parts.append(tag("line", class_="eq-tick", x1=x, x2=x, y1=view.height - 6, y2=view.height))
        parts.append(label(f"{gain:+.0f} dB", x, view.height - 9, class_="grid-label", text_anchor="middle"))
    return tag("g", *parts, data_eq=path or owner, data_gain_span=GAIN_SPAN_DB, data_gain_share=f"{GAIN_SHARE:g}")


def _curve(stack: Stack, view: View, members: tuple[Point, ...]) -> str:
    frequencies = np.geomspace(LOWEST_HZ, HIGHEST_HZ, 160)
    response = sections_response(eq_sections(members, stack.sample_rate), frequencies, stack.sample_rate)
    gains = gain_to_db(np.abs(response))
    return points((view.gain_x(float(g)), view.y(float(f))) for f, g in zip(frequencies, gains, strict=True))


def _split_curve(stack: Stack, view: View) -> str:
    """The sum of the split that the selected layer belongs to: a straight line where it is whole."""
    layer = view.selected_layer(stack)
    if layer is None or not stack.crossovers:
        return ""
    chain = next((c for c in chains(stack) if layer.id in [m.id for m in c.members]), None)
    if chain is None or len(chain.members) < 2:
        return ""
    frequencies = np.geomspace(LOWEST_HZ, HIGHEST_HZ, 240)
    gains = gain_to_db(np.abs(split_sum(stack, chain, frequencies, stack.sample_rate)))
    curve = points((view.gain_x(float(g)), view.y(float(f))) for f, g in zip(frequencies, gains, strict=True))
    names = ", ".join(member.name for member in chain.members)
    return tag("polyline", tag("title", escape(f"Sum of the split: {names}")), class_="split-curve", points=curve)


def cutting(stack: Stack, view: View) -> str:
    """Where the selected layer can be cut in two."""
    layer = view.selected_layer(stack)
    if layer is None:
        return _hint(view, "Choose the layer that is to be cut.")
    low, high = band_edges_hz(stack, layer)
    top, bottom = view.y(high), view.y(low)
    return tag(
        "g",
        tag("rect", class_="cut-area", x=0, y=top, width=view.profile, height=bottom - top),
        _hint(view, f"Click where '{layer.name}' is to be cut in two."),
        data_cut=layer.id,
    )


def _tack(view: View, path: str, point: Point) -> str:
    gain = getattr(point, "gain_db", 0.0)
    x, y, middle = view.gain_x(gain), view.y(point.frequency_hz), view.gain_x(0.0)
    name = f"{point.label}, {short_hz(point.frequency_hz)}"
    state = "eq-point" + ("" if point.on else " is-off") + (" is-listened" if view.point == path else "")
    return tag(
        "g",
        tag("line", class_="eq-stem", x1=middle, x2=x, y1=y, y2=y),
        tag("rect", class_="eq-tack", x=x - 5, y=y - 5, width=10, height=10),
        tag("circle", class_="grip-area", cx=x, cy=y, r=12),
        class_=state,
        data_drag="point",
        data_path=path,
        data_gain="yes" if hasattr(point, "gain_db") else "no",
        data_key=point_key(path),
        data_frequency=repr(point.frequency_hz),
        data_db=f"{gain:g}",
        **handle(name, point.frequency_hz, f"{name}, {gain:+.1f} dB", 20, 20000),
    )


def _pair_tack(stack: Stack, view: View, pair: CarvePair, eq: str) -> str:
    """One end of a carve pair, and faintly the other: both move as one."""
    dips = eq == pair.dip
    own, other = (-pair.dip_db, pair.lift_db) if dips else (pair.lift_db, -pair.dip_db)
    y, middle = view.y(pair.frequency_hz), view.gain_x(0.0)
    x, far = view.gain_x(own), view.gain_x(other)
    partner = stack.owner_name(pair.lift if dips else pair.dip)
    name = f"Pair with {partner}, {short_hz(pair.frequency_hz)}"
    path = f"pairs/{pair.id}"
    return tag(
        "g",
        tag("title", escape(name)),
        tag("line", class_="eq-stem", x1=middle, x2=x, y1=y, y2=y),
        tag("line", class_="pair-link", x1=x, x2=far, y1=y, y2=y),
        tag("rect", class_="pair-far", x=far - 3, y=y - 3, width=6, height=6),
        tag("rect", class_="eq-tack", x=x - 5, y=y - 5, width=10, height=10, transform=f"rotate(45 {x:.1f} {y:.1f})"),
        tag("circle", class_="grip-area", cx=x, cy=y, r=12),
        class_="eq-point" if pair.on else "eq-point is-off",
        data_drag="pair",
        data_path=path,
        data_end="dip" if dips else "lift",
        data_key=point_key(path),
        data_frequency=repr(pair.frequency_hz),
        data_dip=repr(pair.dip_db),
        data_lift=repr(pair.lift_db),
        **handle(name, pair.frequency_hz, f"{name}, {own:+.1f} dB", 20, 20000),
    )


def usual_pitch(stack: Stack) -> int:
    """The pitch that the pattern plays most, the lowest of several."""
    counts = Counter(note.pitch for note in stack.pattern)
    return min(counts, key=lambda pitch: (-counts[pitch], pitch), default=MIDDLE_PITCH)


def harmonics(stack: Stack, view: View) -> str:
    """The harmonics of the wave that is open, or of a cycle of its table, else of the selected layer's first wave, as
    bars at their frequencies, for the most played note."""
    layer = view.selected_layer(stack)
    if layer is None or not layer.source.waves():
        return _hint(view, "Choose a layer with a tone to pull its harmonics.")
    listed = f"layers/{layer.id}/source/tones"
    waves = {joined(listed, tone.id): tone for tone in layer.source.waves()}
    wave, _, cycle = view.wave.partition("/table/")
    tone = waves.get(wave) or next(iter(waves.values()))
    drawn = next((each for each in tone.table if each.id == cycle), None) if tone.shape == "table" else None
    path = view.wave if drawn else joined(listed, tone.id)
    pitch = usual_pitch(stack)
    fundamental = float(midi_to_hz(float(pitch + layer.transpose))) * tone.ratio()
    amplitudes = np.abs(tone.cycle().harmonics(MOST_HARMONICS))
    if drawn:
        amplitudes = np.pad(np.array(drawn.harmonics), (0, MOST_HARMONICS - len(drawn.harmonics)))
    parts = [label(f"harmonics of {midi_to_name(pitch)}", view.profile - 6, 13, class_="grid-label", text_anchor="end")]
    before = view.height + CLOSEST_BARS
    for number, amplitude in enumerate(amplitudes, start=1):
        frequency = number * fundamental
        y = view.y(frequency)
        if frequency > HIGHEST_HZ or before - y < CLOSEST_BARS:
            break
        before = y
        x = view.harmonic_x(float(gain_to_db(float(amplitude))))
        levels = drawn.harmonics if drawn else tone.harmonics
        own = number <= len(levels) and levels[number - 1] not in (None, 0.0 if drawn else None)
        name = f"Harmonic {number}, {short_hz(frequency)}"
        parts.append(
            tag(
                "g",
                tag("title", f"{name}: {amplitude:.3f}"),
                tag("rect", class_="grip-area", x=0, y=y - 4, width=view.profile, height=8),
                tag("line", class_="harmonic-bar", x1=0, x2=x, y1=y, y2=y),
                tag("rect", class_="harmonic-end", x=x - 3, y=y - 3, width=6, height=6),
                class_="harmonic is-own" if own else "harmonic",
                data_drag="harmonic",
                data_path=path,
                data_number=number,
                data_key=f"harmonic:{number}",
                data_amplitude=f"{amplitude:.4f}",
                **handle(name, float(amplitude), f"{amplitude:.3f}", 0, 2),
            )
        )
    return tag("g", *parts, data_low_db=HARMONIC_LOW_DB, data_high_db=HARMONIC_HIGH_DB)


def _hint(view: View, words: str) -> str:
    return label(words, view.profile / 2, view.height - 9, class_="hint", text_anchor="middle")
