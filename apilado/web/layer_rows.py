"""The rows under the Pile: every layer, then the drums and the buses."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.render.audition import WHOLE, Audition
from apilado.core.units import short_hz
from apilado.web.drawings.view import band_edges_hz, layer_state
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
    alone: str | None = None
    """What is heard alone when it is pressed: the path of the part."""
    is_alone: bool = False
    now: str = ""
    """The address by which its level of the moment is told."""
    frozen: bool = False
    """Whether its source and path are kept as audio."""
    up: dict[str, Any] | None = None
    down: dict[str, Any] | None = None


def layer_rows(stack: Stack, audition: Audition = WHOLE) -> list[Row]:
    """Rows from the top of the frequency axis down: the last layer first."""
    rows = [_layer_row(stack, index, layer, audition) for index, layer in reversed(list(enumerate(stack.layers)))]
    heard = audition.drums(stack)
    for name, shown in stack.drum_names().items():
        drum, owner = stack.drum(name), stack.drum_owner(name)
        level, mute = fields_of(drum, owner, "level_db", "mute")
        selection = "kick" if name == "kick" else f"trigger:{name}"
        state = "is-muted" if drum.mute else "is-heard" if name in heard else "is-faded"
        called = shown.lower() if name == "kick" else shown
        rows.append(
            Row(
                selection,
                called,
                state,
                level,
                mute=mute,
                alone=owner,
                is_alone=owner in audition.soloed(stack),
                now=owner,
            )
        )
    for track in stack.backing:
        owner = f"backing/{track.id}"
        (level,), (mute,) = fields_of(track.sound, f"{owner}/sound", "gain_db"), fields_of(track, owner, "mute")
        state = "is-muted" if track.mute else "is-heard" if owner in audition.tracks(stack) else "is-faded"
        alone = {"alone": owner, "is_alone": owner in audition.soloed(stack)}
        rows.append(Row(f"backing:{track.id}", track.name, state, level, mute=mute, band="backing", **alone))
    rows.append(Row("bus", "bus", "is-heard", *fields_of(stack.bus, "bus", "level_db"), now="bus"))
    if stack.senders():
        level, mute = fields_of(stack.space, "space", "level_db", "mute")
        state = "is-muted" if stack.space.mute else "is-heard" if audition.space(stack) else "is-faded"
        alone = {"alone": "space", "is_alone": "space" in audition.soloed(stack)}
        rows.append(Row("space", "space", state, level, mute=mute, now="space", **alone))
    if stack.shared.on:
        rows.append(Row("shared", "both", "is-heard", *fields_of(stack.shared, "shared", "level_db"), now="shared"))
    return rows


def band_text(stack: Stack, layer: Layer) -> str:
    """The range of frequencies that a layer owns, as the rows show it."""
    low, high = band_edges_hz(stack, layer)
    said = f"{short_hz(low)} – {short_hz(high)}".replace(" Hz –", " –")
    return said.replace(" kHz –", "–").replace("– ", "–") if " kHz –" in said else said


def facts(stack: Stack) -> str:
    """Tempo, key and length in a line."""
    return f"{stack.tempo_bpm:g} bpm · {stack.key} · {stack.bars} bar{'s' if stack.bars != 1 else ''}"


def states(stack: Stack, audition: Audition = WHOLE) -> dict[str, str]:
    """How each row is drawn, by what it selects."""
    return {row.selection: row.state for row in layer_rows(stack, audition)}


def texts(stack: Stack) -> dict[str, str]:
    """What is written around the controls and changes with plain values, by the name that its place carries."""
    return {
        "name": stack.name,
        "facts": facts(stack),
        **{f"band {x.id}": band_text(stack, x) for x in stack.layers},
    }


def _layer_row(stack: Stack, index: int, layer: Layer, audition: Audition) -> Row:
    owner = f"layers/{layer.id}"
    level, mute = fields_of(layer, owner, "level_db", "mute")

    def move(to: int) -> dict[str, Any] | None:
        return {"op": "move-layer", "layer": layer.id, "to": to} if 0 <= to < len(stack.layers) else None

    return Row(
        selection=f"layer:{layer.id}",
        name=layer.name,
        state=layer_state(stack, layer, audition),
        level=level,
        tint=layer.tint,
        band=band_text(stack, layer),
        mute=mute,
        alone=owner,
        is_alone=owner in audition.soloed(stack),
        now=owner,
        frozen=bool(layer.frozen),
        up=move(index + 1),
        down=move(index - 1),
    )
