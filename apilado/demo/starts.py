"""The demo stacks, in the order of the shelf, and as what a new stack can begin with."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from apilado.core.formats.bundles import Bundle
from apilado.demo.breakwater import breakwater
from apilado.demo.further import bollard, foghorn, sea_chest
from apilado.demo.stacks import lock_gate, rope_walk, slipway


@dataclass(frozen=True)
class Start:
    """A demo stack as what a new stack can begin with."""

    key: str
    words: str
    """The way of working that it shows."""
    bundle: Callable[[], Bundle]


def starts() -> tuple[Start, ...]:
    """All starts, in the order in which they are offered."""
    return (
        Start("Slipway", "A rolling sub under one patch that is split in three", slipway),
        Start("Lock Gate", "A growl over a broken kick, with faults to be found", lock_gate),
        Start("Rope Walk", "A plucked take, doubled and split", rope_walk),
        Start("Foghorn", "A growl that talks: waves that modulate each other, and a vowel", foghorn),
        Start("Bollard", "A pluck in two layers: a click over a soft low note", bollard),
        Start("Breakwater", "A wide detuned wall, a drive to each band, and one space for all", breakwater),
        Start("Sea Chest", "A held sample and one in slices over a clean sub", sea_chest),
    )


def demo_bundles() -> tuple[Bundle, ...]:
    """All demo stacks, in the order of the shelf."""
    return tuple(start.bundle() for start in starts())
