"""What the sheet shows for a selection."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from types import MappingProxyType

from apilado.core.document.addresses import find, joined, parted
from apilado.core.document.stack import Stack
from apilado.core.notes import FIRST_BEAT
from apilado.core.parameters import Parameter
from apilado.core.units import midi_to_hz, midi_to_name
from apilado.web.items import hit_of, hit_path, note_of, note_path
from apilado.web.sheets.backing import backing_sections
from apilado.web.sheets.base import Action, Field, Line, Section, fields_of
from apilado.web.sheets.buses import balance_sections, bus_sections, shared_sections, space_sections
from apilado.web.sheets.drums import drum_sections
from apilado.web.sheets.ducks import duck_sections
from apilado.web.sheets.layers import layer_sections
from apilado.web.sheets.movements import course_point_section
from apilado.web.sheets.piece import piece_sections
from apilado.web.sheets.sections import section_sections

SHEETS: MappingProxyType[str, Callable[[Stack, str], tuple[Section, ...]]] = MappingProxyType(
    {
        "sub": lambda stack, selected: (),
        "bus": lambda stack, selected: bus_sections(stack),
        "space": lambda stack, selected: space_sections(stack),
        "shared": lambda stack, selected: shared_sections(stack),
        "kick": drum_sections,
        "trigger": drum_sections,
        "duck": duck_sections,
        "backing": backing_sections,
        "balance": lambda stack, selected: balance_sections(stack),
        "section": section_sections,
        "piece": lambda stack, selected: piece_sections(stack),
    }
)
LISTED = MappingProxyType({"section": "sections", "backing": "backing"})
"""Of what is selected by an id, the list that it is in: where it has gone, the piece is shown."""
ALL_LINES = "*"
"""In the place of the lines that are opened: all of them."""
TABS = (
    ("sub", "Low end"),
    ("duck", "Duck"),
    ("balance", "Balance"),
    ("piece", "Piece"),
)


def sheet_sections(stack: Stack, selected: str, item: str = "") -> tuple[str, tuple[Section, ...]]:
    """(what is shown, its sections), a chosen note or hit first; a selection that is gone shows the piece."""
    name, sections = _selected_sections(stack, selected)
    return name, (*_item_sections(stack, item), *sections)


def tab_of(selected: str) -> str:
    """The tab under which a selection is found; what is chosen in the list of layers has none."""
    return selected.partition(":")[0]


def lines_in(sections: tuple[Section, ...]) -> Iterator[Line]:
    """The lines of sections, those within others behind them."""
    for section in sections:
        if section.line is not None:
            yield section.line
        yield from lines_in(section.children)


def paths_of(sections: tuple[Section, ...], opened: frozenset[str]) -> list[str]:
    """The addresses of the values whose controls are shown."""
    found = []
    for section in sections:
        if section.line is not None and section.line.address not in opened and ALL_LINES not in opened:
            continue
        found += [field.path for field in (*section.fields, *section.rest)]
        found += paths_of(section.children, opened)
    return found


def opened_at_first(sections: tuple[Section, ...]) -> frozenset[str]:
    """What is open of a path that is chosen for the first time: its source, and where it stands."""
    return frozenset(
        line.address for line in lines_in(sections) if parted(line.address)[1] in ("source", "sends", "place")
    )


def _selected_sections(stack: Stack, selected: str) -> tuple[str, tuple[Section, ...]]:
    kind, _, name = selected.partition(":")
    layer = stack.layer(name) if kind == "layer" else None
    if layer is not None:
        return selected, layer_sections(stack, layer)
    if kind in SHEETS and (kind not in LISTED or find(stack, joined(LISTED[kind], name)) is not None):
        return selected, SHEETS[kind](stack, selected)
    return "piece", piece_sections(stack)


def _item_sections(stack: Stack, item: str) -> tuple[Section, ...]:
    found, hit, point = note_of(stack, item), hit_of(stack, item), course_point_section(stack, item)
    if point:
        return point
    if found is not None:
        layer, note = found
        remove = {"op": "note", "was": note.model_dump(mode="json"), "now": None, "layer": layer or None}
        title = f"Note {midi_to_name(note.pitch)}, {midi_to_hz(float(note.pitch)):.1f} Hz"
        fields = fields_of(note, note_path(note, layer))
        return (Section(title, fields, (Action("Remove note", remove, danger=True),)),)
    if hit is not None:
        drum, at = hit
        remove = {"op": "hit", "trigger": drum, "was": at, "now": None}
        beat = Parameter("beat", "number", "Beat", at, high=stack.beats, step=0.25, first=FIRST_BEAT)
        title = f"Hit of {stack.drum_names()[drum].lower()}"
        fields = (Field(hit_path(stack, drum, at), beat, at),)
        return (Section(title, fields, (Action("Remove hit", remove, danger=True),)),)
    return ()
