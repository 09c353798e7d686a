"""The rows under the Pile: every layer, then the drums and the buses."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.render.builder import listened_point
from apilado.web.drawings.view import band_edges_hz, layer_state, short_hz
from apilado.web.sheets.base import Field, fields_of


@dataclass(frozen=True)
class Row:
    """One row; what it lacks is None."""

    selection: str
    name: str
    state: str
    level: Field
    tint: str = ""
    band: str = ""
    mute: Field | None = None
    solo: Field | None = None
    up: dict[str, Any] | None = None
    down: dict[str, Any] | None = None


def layer_rows(stack: Stack) -> list[Row]:
    """Rows from the top of the frequency axis down: the last layer first."""
    rows = [_layer_row(stack, index, layer) for index, layer in reversed(list(enumerate(stack.layers)))]
    listened = listened_point(stack)

    def elsewhere(owner: str) -> bool:
        return listened is not None and listened[0] != owner

    for name, shown in stack.drum_names().items():
        drum = stack.drum(name)
        level, mute = fields_of(drum, stack.drum_owner(name), "level_db", "mute")
        selection = "kick" if name == "kick" else f"trigger:{name}"
        state = "is-muted" if drum.mute else "is-faded" if elsewhere(stack.drum_owner(name)) else "is-heard"
        rows.append(Row(selection, shown.lower() if name == "kick" else shown, state, level, mute=mute))
    rows.append(Row("bus", "bus", "is-heard", *fields_of(stack.bus, "bus", "level_db")))
    if stack.shared.on:
        rows.append(Row("shared", "both", "is-heard", *fields_of(stack.shared, "shared", "level_db")))
    return rows


def band_text(stack: Stack, layer: Layer) -> str:
    """The range of frequencies that a layer owns, as the rows show it."""
    low, high = band_edges_hz(stack, layer)
    return f"{short_hz(low)} – {short_hz(high)}".replace(" Hz –", " –")


def facts(stack: Stack) -> str:
    """Tempo, key and length in a line."""
    return f"{stack.tempo_bpm:g} bpm · {stack.key} · {stack.bars} bar{'s' if stack.bars != 1 else ''}"


def states(stack: Stack) -> dict[str, str]:
    """How each row is drawn, by what it selects."""
    return {row.selection: row.state for row in layer_rows(stack)}


def listening(stack: Stack) -> str:
    """The EQ point that is all that is heard, in words; nothing if there is none."""
    found = listened_point(stack)
    if found is None:
        return ""
    owner, point = found
    return f"Heard: only what {point.label.lower()} {short_hz(point.frequency_hz)} of {stack.owner_name(owner)} touches"


def texts(stack: Stack) -> dict[str, str]:
    """What is written around the controls and changes with plain values, by the name that its place carries."""
    alone = {"listening": listening(stack)}
    return {
        "name": stack.name,
        "facts": facts(stack),
        **alone,
        **{f"band {x.id}": band_text(stack, x) for x in stack.layers},
    }


def _layer_row(stack: Stack, index: int, layer: Layer) -> Row:
    level, mute, solo = fields_of(layer, f"layers/{layer.id}", "level_db", "mute", "solo")

    def move(to: int) -> dict[str, Any] | None:
        return {"op": "move-layer", "layer": layer.id, "to": to} if 0 <= to < len(stack.layers) else None

    return Row(
        selection=f"layer:{layer.id}",
        name=layer.name,
        state=layer_state(stack, layer),
        level=level,
        tint=layer.tint,
        band=band_text(stack, layer),
        mute=mute,
        solo=solo,
        up=move(index + 1),
        down=move(index - 1),
    )
