"""What is sent to the space."""

from __future__ import annotations

from apilado.core.document.addresses import find, joined
from apilado.core.document.stack import Stack
from apilado.web.sheets.base import Action, Field, Line, Section, fields_of


def send_lines(stack: Stack, owner: str) -> tuple[Section, ...]:
    """How much of a layer, a drum or the bus goes to the space: a line of its own as soon as anything does."""
    if not stack.senders():
        return ()
    here = joined(owner, "sent")
    fields = fields_of(find(stack, owner), owner, "send")
    opens = Action("Open the space", select="space")
    return (Section("Send", fields, (opens,), key=here, line=Line(here, send_words(stack, owner))),)


def first_send(stack: Stack, owner: str) -> tuple[Field, ...]:
    """The send of a part where nothing is sent yet: it stands with where the part does."""
    return () if stack.senders() else fields_of(find(stack, owner), owner, "send")


def send_words(stack: Stack, owner: str) -> str:
    """How much that is, in a few words."""
    send = float(find(stack, owner).send)
    moved = "" if owner not in stack.senders() else "to the space now and then"
    return f"{100.0 * send:.0f} % to the space" if send > 0.0 else moved or "nothing to the space"
