"""The stages of a layer's source: its versions, what goes through its filters and what goes past them."""

from __future__ import annotations

import functools
import math
from functools import partial
from typing import TYPE_CHECKING, Any, cast

from apilado.core.document.addresses import joined as in_
from apilado.core.document.layer import Layer
from apilado.core.document.settings import set_to, unset
from apilado.core.document.stack import Stack
from apilado.core.dsp.curves import greatest, least
from apilado.core.render import steps
from apilado.core.render.moves import Moved, moving
from apilado.core.render.passed import Passed
from apilado.core.render.playing import score_of
from apilado.core.render.stage import Stage, stage
from apilado.core.sources.base import Source

if TYPE_CHECKING:
    from apilado.core.render.builder import Builder


def sourced(builder: Builder, layer: Layer) -> Stage:
    """The raw sound of a layer, behind the filters of its source."""
    forms = [cast(Layer, form.layer(layer.id)) for form in builder.forms.stacks]
    filters = {in_(_filters_of(layer), each.id) for form in forms for each in form.source.own_filters()}
    if not any(builder.anywhere(in_(address, "on")) for address in filters):
        return builder.in_forms(partial(_walked, builder, layer.id, None))
    sides = {
        through: builder.in_forms(partial(_walked, builder, layer.id, through))
        for through in (True, False)
        if any(form.source.side(through=through) for form in forms)
    }
    if not sides:
        return stage(steps.mix, frames=builder.clock.frames)
    if True in sides:
        sides[True] = _filtered(builder, sides[True], layer)
    return stage(steps.together, *sides.values()) if len(sides) > 1 else next(iter(sides.values()))


def _filters_of(layer: Layer) -> str:
    return f"layers/{layer.id}/source/filters"


def _walked(builder: Builder, layer_id: str, through: bool | None, stack: Stack) -> Stage:
    """The sound of a source in one form, where it stands between its settings; or that of the layer that it takes."""
    layer = cast(Layer, stack.layer(layer_id))
    followed = layer.source.follows()
    if followed is not None:
        parent = cast(Layer, builder.stack.layer(followed))
        raw = layer.source.follows(treated=False) is not None
        return builder.source(parent) if raw else builder.shaped(parent)
    settings, at = layer.source.versions()
    walk = builder.moves.of(f"layers/{layer.id}/source", "at_setting") if settings else Moved()
    versions = [layer.source, *(set_to(layer.source, each) for each in settings)]
    first, last = (0, len(versions) - 1) if walk.names else (math.floor(least(at)), math.ceil(greatest(at)))
    made = [_played(builder, stack, layer, each, through) for each in versions[first : last + 1]]
    if len(made) < 2:
        return made[0] if made else _played(builder, stack, layer, versions[-1], through)
    given: dict[str, Any] = {"count": len(made), "first": first, "at": 0.0 if walk.names else least(at)}
    return stage(steps.between, *made, *walk.curves, **given)


def _played(builder: Builder, stack: Stack, layer: Layer, source: Source, through: bool | None) -> Stage:
    """The sound of one version of a source: all of it, or what goes through its filters or past them."""
    side = source if through is None else source.side(through=through)
    if side is None:
        return stage(steps.mix, frames=builder.clock.frames)
    context, score = {"load": builder.load}, score_of(stack, layer)
    moved = builder.moves.of(f"layers/{layer.id}/source").without("filters").without("at_setting")
    given: dict[str, Any] = {"source": moved.still(unset(side)), "score": score, "clock": builder.clock}
    return moving(steps.play_source, moved=moved, context=context, **given)


def _filtered(builder: Builder, sound: Stage, layer: Layer) -> Stage:
    """A sound behind the filters of a layer's source, in a row or side by side."""

    def behind(sound: Stage, address: str) -> Stage:
        out, _ = builder.treated(sound, address)
        builder.passed[address] = Passed(sound, out)
        return out

    addresses = [in_(_filters_of(layer), each.id) for each in layer.source.own_filters()]
    on = [address for address in addresses if builder.anywhere(in_(address, "on"))]
    beside = stage(steps.together, *[behind(sound, each) for each in on]) if len(on) > 1 else None
    row = functools.reduce(behind, on, sound)

    def standing(stack: Stack) -> Stage:
        in_a_row = cast(Layer, stack.layer(layer.id)).source.filters_in_a_row()
        return row if beside is None or in_a_row else beside

    out = builder.in_forms(standing)
    if beside is not None and not layer.source.filters_in_a_row():
        for address in on:  # what goes into each is told as it stands in the whole
            behind(sound, address)
    return out
