"""What is sent to the space."""

from __future__ import annotations

from apilado.core.document.addresses import find, joined
from apilado.core.document.stack import Stack
from apilado.web.sheets.base import Action, Line, Section, fields_of


def send_section(stack: Stack, owner: str) -> Section:
    """How much of a layer, a drum or the bus goes to the space."""
    here = joined(owner, "sent")
    return Section(
        "Send",
        fields_of(find(stack, owner), owner, "send"),
        (Action("Open the space", select="space"),),
        key=here,
        line=Line(here, send_words(stack, owner)),
    )


def send_words(stack: Stack, owner: str) -> str:
    """How much that is, in a few words."""
    send = float(find(stack, owner).send)
    moved = "" if owner not in stack.senders() else "to the space now and then"
    return f"{100.0 * send:.0f} % to the space" if send > 0.0 else moved or "nothing to the space"
