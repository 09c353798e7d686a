"""Sections on the time axis: a strip over the Passage, and a veil over what lies outside of the chosen one."""

from __future__ import annotations

from html import escape

from apilado.core.document.edits_sections import bars_in_words
from apilado.core.document.section import PieceSection
from apilado.core.document.stack import Stack
from apilado.web.drawings.lines import handle
from apilado.web.drawings.svg import label, tag
from apilado.web.drawings.view import View

STRIP = 18.0
"""Its height in pixels."""
END = 7.0
NAME_FROM = 46.0
"""Narrower than this a section is drawn without its name."""


def section_strip(stack: Stack, view: View) -> str:
    """Every section on its bars, with ends to be pulled; on free bars one is made by dragging."""
    first, last = view.beats(stack)
    ground = tag("rect", class_="section-ground", x=0, y=0, width=view.passage, height=STRIP)
    hint = "Drag across bars to make a section; with Shift, to hear only these"
    parts = [tag("g", tag("title", hint), ground, data_drag="bars", data_free=1)]
    for section in stack.sections:
        begin, end = section.beats(stack.beats_per_bar)
        if end > first and begin < last:
            parts.append(_block(stack, view, section, begin, end))
    if view.heard_from is not None and view.heard_to is not None:
        x, until = view.x(view.heard_from, stack), view.x(view.heard_to, stack)
        bracket = f"M{x:.1f} {STRIP + 7:.1f} v-5 H{until:.1f} v5"
        parts.append(tag("path", class_="heard-bars", d=bracket))
    return tag("g", *parts, class_="sections")


def _block(stack: Stack, view: View, section: PieceSection, begin: float, end: float) -> str:
    x, until = max(view.x(begin, stack), 0.0), min(view.x(end, stack), view.passage)
    chosen = view.section == section.id
    said = f"{section.name}, {bars_in_words(section)}"
    bars = {"data_section_id": section.id, "data_first": section.first_bar, "data_last": section.last_bar}
    parts = [
        tag("title", escape(f"{said}: press to change what is otherwise there")),
        tag("rect", class_="section-block", x=x, y=0.5, width=max(until - x, 3.0), height=STRIP - 1.0),
    ]
    if until - x >= NAME_FROM:
        named = section.name[: max(3, int((until - x - 24.0) / 6.5))]
        parts.append(label(escape(f"{section.first_bar}  {named}"), x + 4.0, 13, class_="section-name"))
    block = tag(
        "g",
        *parts,
        class_="section-mark is-in" if chosen else "section-mark",
        data_drag="section",
        data_key=f"section:{section.id}",
        **bars,
        **handle(f"Section {said}", float(section.first_bar), bars_in_words(section), 1, stack.bars),
    )
    ends = [
        tag(
            "rect",
            class_="section-end",
            x=place - (0.0 if part == "first" else END),
            y=0,
            width=END,
            height=STRIP,
            data_drag="section",
            data_part=part,
            data_key=f"section:{section.id}",
            **bars,
        )
        for part, place in (("first", x), ("last", until))
    ]
    return block + "".join(ends)


def veil(stack: Stack, view: View, height: float, top: float = 0.0) -> str:
    """What lies outside of the chosen section, hatched over: no change reaches it."""
    chosen = next((each for each in stack.sections if each.id == view.section), None)
    if chosen is None:
        return ""
    begin, end = (min(max(view.x(beat, stack), 0.0), view.passage) for beat in chosen.beats(stack.beats_per_bar))
    spans = [(0.0, begin), (end, view.passage)]
    return "".join(
        tag("rect", class_="veil", x=x, y=top, width=until - x, height=height - top) for x, until in spans if until > x
    )
