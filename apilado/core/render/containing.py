"""The stages of steps that hold chains: what goes into each, and their sum."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, cast

from apilado.core.banded import Banded
from apilado.core.document.addresses import find, within
from apilado.core.document.addresses import joined as in_
from apilado.core.document.path import Container
from apilado.core.document.stack import Stack
from apilado.core.render import steps
from apilado.core.render.passed import Passed
from apilado.core.render.stage import Stage, joined, stage

if TYPE_CHECKING:
    from apilado.core.render.builder import Builder


def contained(builder: Builder, sound: Stage, address: str) -> Passed:
    """A sound through the chains of a container: their sum, at their levels. Before it stands what it would be with
    nothing in them."""
    step = cast(Container, find(builder.stack, address))
    bare, made, measured = [], {}, None
    for strand in step.strands():
        owner = in_(address, strand.where)
        fed = sound if strand.band is None else builder.in_forms(partial(_band, builder, sound, address, strand.number))
        out = builder.along(fed, owner, strand.path)
        if step.dry and strand.path:
            out, measured = _aligned(builder, sound, out, address)
        curves = builder.moves.of(owner, "level_db").curves
        made[owner] = stage(steps.scale, out, *curves, level_db=0.0 if curves else find(builder.stack, owner).level_db)
        builder.passed[owner] = Passed(fed, made[owner])
        bare.append(fed)
    heard = [each for owner, each in made.items() if builder.focus and within(builder.focus, owner)]
    if not heard:
        heard = [sound, *made.values()] if step.dry else [*made.values()]
    out = stage(steps.together, *heard)
    on = [out if find(form, address).on else sound for form in builder.forms.stacks]
    plain = sound if step.dry else stage(steps.together, *bare)
    return Passed(plain, joined(on, builder.plan, builder.clock, steps.join), None, measured)


def _band(builder: Builder, sound: Stage, address: str, number: int, stack: Stack) -> Stage:
    """What goes into the chain of a band."""
    banded = cast(Banded, find(stack, address))
    return stage(
        steps.band_of,
        sound,
        at_hz=tuple(band.from_hz for band in banded.in_bands()[1:]),
        slope_db_per_octave=banded.slope_db_per_octave,
        phase=banded.phase,
        number=number,
        clock=builder.clock,
        remembers=partial(builder.memories.bands, address),
    )


def _aligned(builder: Builder, sound: Stage, copy: Stage, address: str) -> tuple[Stage, Stage | None]:
    """(what comes out of a chain beside a sound, so that it agrees with that, how it fits)."""
    if not any(find(form, address).aligns() for form in builder.forms.stacks):
        return copy, None
    fit = builder.measured_once(steps.agreement, sound, copy, address, rate_hz=builder.clock.rate_hz)
    fitted = stage(steps.fitted, copy, fit, clock=builder.clock, remembers=builder.memories.fitted)
    return builder.in_forms(lambda form: fitted if find(form, address).aligns() else copy), fit
