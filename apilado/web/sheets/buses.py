"""The sheets of the bus, of the bus that bass and kick share, and of the balance."""

from __future__ import annotations

from typing import Any

from apilado.core.document.carving import FROM_PIECE
from apilado.core.document.stack import Stack
from apilado.web.sheets.base import AUDIO_ACCEPT, Action, Section, fields_of
from apilado.web.sheets.layers import path_section


def bus_chooser(selected: str) -> Section:
    """The bass's own bus, or the one it shares with the kick."""
    return Section(
        "Buses",
        (),
        (
            Action("Bass", select="bus", chosen=selected == "bus"),
            Action("Bass and kick", select="shared", chosen=selected == "shared"),
        ),
    )


def bus_sections(stack: Stack) -> tuple[Section, ...]:
    """Everything of the bus."""
    return (
        bus_chooser("bus"),
        Section("Bus", fields_of(stack.bus, "bus")),
        path_section(stack, "bus"),
        Section("Limiter", fields_of(stack.bus.limiter, "bus/limiter")),
    )


def shared_sections(stack: Stack) -> tuple[Section, ...]:
    """Everything of the bus that bass and kick share."""
    own = Section("Bass and kick", fields_of(stack.shared, "shared"))
    if not stack.shared.on:
        return bus_chooser("shared"), own
    return (
        bus_chooser("shared"),
        own,
        path_section(stack, "shared"),
        Section("Limiter", fields_of(stack.shared.limiter, "shared/limiter")),
    )


def balance_sections(stack: Stack) -> tuple[Section, ...]:
    """What the balance is judged by."""
    actions = [Action("Compare with a piece", upload="reference", accept=AUDIO_ACCEPT)]
    note = "A finished piece is compared at equal loudness; it is never heard."
    if stack.reference is not None:
        note = f"File: {stack.reference.file_name}"
        forget: list[dict[str, Any]] = [{"op": "set", "path": "reference", "value": None}]
        if stack.target == FROM_PIECE:
            forget.insert(0, {"op": "set", "path": "target", "value": "clean lower mids"})
        several = {"op": "several", "name": "Forget the piece", "edits": forget}
        actions.append(Action("Forget the piece", several, danger=True))
    return (
        Section("Target", fields_of(stack, "", "target"), note="What ‘250–400 Hz’ is measured against."),
        Section("A finished piece", (), tuple(actions), note=note),
    )
