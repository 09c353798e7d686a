"""The sheets of the bus, of the bus that bass and kick share, and of the balance."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from apilado.core.document.addresses import find
from apilado.core.document.carving import FROM_PIECE
from apilado.core.document.stack import Limiter, Stack
from apilado.web.sheets.base import AUDIO_ACCEPT, Action, Field, Line, Section, fields_of, switch_of
from apilado.web.sheets.layers import adding, path_lines
from apilado.web.sheets.movements import movement_lines, place_words
from apilado.web.sheets.parts import chain_copies
from apilado.web.sheets.sends import first_send, send_lines


def bus_chooser(selected: str) -> Section:
    """The bass's own bus, the space, or what both share with the kick."""
    return Section(
        "Buses",
        (),
        (
            Action("Bass", select="bus", chosen=selected == "bus"),
            Action("Space", select="space", chosen=selected == "space"),
            Action("Bass and kick", select="shared", chosen=selected == "shared"),
        ),
        chooser=True,
    )


def bus_sections(stack: Stack) -> tuple[Section, ...]:
    """Everything of the bus."""
    place, line = fields_of(stack.bus, "bus", without=("send",)), Line("bus/place", place_words(stack.bus))
    return (
        bus_chooser("bus"),
        *path_lines(stack, "bus"),
        Section(
            "Place",
            place,
            rest=(*first_send(stack, "bus"), *chain_copies(stack, "bus/path")),
            line=line,
            key="bus/place",
        ),
        limiter_section(stack.bus.limiter, "bus/limiter"),
        *send_lines(stack, "bus"),
        *movement_lines(stack, "bus"),
        adding(stack, "bus"),
    )


def limiter_section(limiter: Limiter, path: str) -> Section:
    """The limiter at the end of a bus."""
    switch, fields = switch_of(fields_of(limiter, path))
    line = Line(path, limiter.in_words(), switch=switch, measured=True)
    return Section("Limiter", fields, line=line, key=path)


def space_sections(stack: Stack) -> tuple[Section, ...]:
    """Everything of the space: what is sent to it, and its path."""
    sends = tuple(_send_of(stack, owner) for owner in stack.owners() if hasattr(find(stack, owner), "send"))
    sending = len(stack.senders())
    said = f"{sending} of {len(sends)} send" if sending else "nothing yet: turn up what should be heard in it"
    place = Line("space/place", place_words(stack.space))
    return (
        bus_chooser("space"),
        Section("Sends", sends, key="space/sends", line=Line("space/sends", said)),
        *path_lines(stack, "space"),
        Section(
            "Place",
            fields_of(stack.space, "space"),
            rest=chain_copies(stack, "space/path"),
            line=place,
            key="space/place",
        ),
        *movement_lines(stack, "space"),
        adding(stack, "space"),
    )


def _send_of(stack: Stack, owner: str) -> Field:
    (field,) = fields_of(find(stack, owner), owner, "send")
    declared: Any = field.parameter
    return replace(field, parameter=replace(declared, label=stack.owner_name(owner)))


def shared_sections(stack: Stack) -> tuple[Section, ...]:
    """Everything of the bus that bass and kick share."""
    own = Section("Bass and kick", fields_of(stack.shared, "shared"))
    if not stack.shared.on:
        return bus_chooser("shared"), own
    return (
        bus_chooser("shared"),
        own,
        *path_lines(stack, "shared"),
        limiter_section(stack.shared.limiter, "shared/limiter"),
        *movement_lines(stack, "shared"),
        adding(stack, "shared"),
    )


def balance_sections(stack: Stack) -> tuple[Section, ...]:
    """What the balance is judged by."""
    actions = [Action("Compare with a piece", upload="reference", accept=AUDIO_ACCEPT)]
    note, fields = "A finished piece is compared at equal loudness, and can be heard in the loop's place.", ()
    if stack.reference is not None:
        note = f"File: {stack.reference.file_name}"
        fields = fields_of(stack.reference, "reference", "from_s")
        actions.append(Action("Hear it in the loop's place", piece=True))
        forget: list[dict[str, Any]] = [{"op": "set", "path": "reference", "value": None}]
        if stack.target == FROM_PIECE:
            forget.insert(0, {"op": "set", "path": "target", "value": "clean lower mids"})
        several = {"op": "several", "name": "Forget the piece", "edits": forget}
        actions.append(Action("Forget the piece", several, danger=True))
    return (
        Section("Target", fields_of(stack, "", "target"), note="What ‘250–400 Hz’ is measured against."),
        Section("A finished piece", fields, tuple(actions), note=note),
    )
