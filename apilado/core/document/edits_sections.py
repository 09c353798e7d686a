"""Edits of sections: what is otherwise in some bars of a piece."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field

from apilado.core.document.addresses import find, get, joined, list_at, parted, place_of, with_fresh_ids
from apilado.core.document.declarations import refused_in_section, value_at
from apilado.core.document.editing import Data, Edit
from apilado.core.document.forms import section_of
from apilado.core.document.movement import Movement, Target
from apilado.core.document.naming import place_name
from apilado.core.document.section import PieceSection
from apilado.core.document.stack import Stack
from apilado.core.notes import Note, again
from apilado.core.parts import new_id
from apilado.core.shapes.drawn_course import DrawnCourse, starting_points
from apilado.errors import InvalidEdit

OWN_LISTS = ("pattern", "hits", "sections")
"""What of a document is not a value: notes and hits go into a section by their bars."""


def changed_in(section: PieceSection, whole: Stack, before: Stack, after: Stack) -> dict[str, Any]:
    """What of a section becomes otherwise where a stack, as it stands in the section, is edited.

    Raises:
        InvalidEdit: it is nothing that a section can have otherwise.
    """
    changes = {change.path: change.value for change in section.changes}
    ids = {change.path: change.id for change in section.changes}
    plain = whole.model_dump(mode="json")
    for path, value in _differences(before.model_dump(mode="json"), after.model_dump(mode="json"), ""):
        refused = refused_in_section(whole, path, value)
        if refused:
            raise InvalidEdit(_not_here(section, f"{place_name(whole, path)} is of the whole piece"))
        found_there = find(plain, path)
        if value == (value_at(whole, path) if found_there is None else found_there):
            changes.pop(path, None)
        else:
            changes[path] = value
    kept = [{"id": ids.get(path, new_id()), "path": path, "value": value} for path, value in changes.items()]
    found: dict[str, Any] = {"changes": kept}
    first, last = section.beats(whole.beats_per_bar)
    if after.pattern != before.pattern:
        inside, outside = _parted(after.pattern, first, last)
        if outside != _parted(before.pattern, first, last)[1]:
            raise InvalidEdit(_not_here(section, "the note lies outside of its bars"))
        found["notes"] = [
            note.model_copy(update={"start_beats": note.start_beats - first}).model_dump(mode="json") for note in inside
        ]
    for name in whole.drum_names():
        now, was = after.drum(name).hits, before.drum(name).hits
        if now != was:
            if [h for h in now if not first <= h < last] != [h for h in was if not first <= h < last]:
                raise InvalidEdit(_not_here(section, "the hit lies outside of its bars"))
            others = [each.model_dump(mode="json") for each in section.hits if each.drum != name]
            own = [hit - first for hit in now if first <= hit < last]
            found["hits"] = [*found.get("hits", others), {"drum": name, "hits": own}]
    return found


def _not_here(section: PieceSection, why: str) -> str:
    return f"not changed in '{section.name}': {why}; choose the whole piece first"


def _parted(notes: tuple[Note, ...], first: float, last: float) -> tuple[list[Note], list[Note]]:
    """(the notes that begin within some beats, the others)."""
    inside = [note for note in notes if first <= note.start_beats < last]
    return inside, [note for note in notes if not first <= note.start_beats < last]


def _differences(before: Any, after: Any, path: str) -> list[tuple[str, Any]]:
    """(address, value) of everything that differs between two documents with the same parts, but for notes and hits."""
    if before == after or parted(path)[1] in OWN_LISTS:
        return []
    if isinstance(before, dict) and isinstance(after, dict):
        names = [*after, *[name for name in before if name not in after]]
        return [
            each for name in names for each in _differences(before.get(name), after.get(name), joined(path, str(name)))
        ]
    ids = [_ids(each) for each in (before, after)]
    if not ids[0] or ids[0] != ids[1]:
        return [(path, after)]
    return [
        each
        for name, one, other in zip(ids[0], before, after, strict=True)
        for each in _differences(one, other, joined(path, name))
    ]


def _ids(members: Any) -> list[str]:
    """The ids of the parts in a list; none where it is no list of parts."""
    if not isinstance(members, list) or not all(isinstance(each, dict) and "id" in each for each in members):
        return []
    return [str(each["id"]) for each in members]


class Otherwise(Edit):
    """What a section has otherwise."""

    section: str
    now: dict[str, Any]

    def alter(self, data: Data) -> None:
        get(data, joined("sections", self.section)).update(self.now)


class GiveBack(Edit):
    """Has a section as the whole again: a value, its notes, the hits of a drum, or all that is otherwise in it."""

    of_the_whole: ClassVar[bool] = True

    op: Literal["give-back"] = "give-back"
    section: str = Field(min_length=1, max_length=40)
    what: str = Field(default="", max_length=200)
    """The address of a value, 'notes', 'hits/' and a drum, or '' for everything."""

    def alter(self, data: Data) -> None:
        found = get(data, joined("sections", self.section))
        if self.what in ("", "notes"):
            found["notes"] = None
        found["hits"] = [each for each in found["hits"] if self.what not in ("", f"hits/{each['drum']}")]
        found["changes"] = [each for each in found["changes"] if self.what not in ("", each["path"])]

    def title(self, before: Stack, after: Stack) -> str:
        name = section_of(before, self.section).name
        if not self.what:
            return f"{name} as the whole"
        if self.what == "notes":
            return f"In {name}: notes as the whole"
        if self.what.startswith("hits/"):
            return f"In {name}: hits of {before.drum_names().get(self.what[5:], 'a drum')} as the whole"
        return f"In {name}: {place_name(before, self.what)} as the whole"


class SetSection(Edit):
    """Makes a section of bars that have none, or gives one other bars.

    Held, it takes the bars that are free: it stops at its neighbours and at the ends of the piece.
    """

    of_the_whole: ClassVar[bool] = True

    op: Literal["section"] = "section"
    section: str = Field(default="", max_length=40)
    """The id of one that is there; '' makes one."""
    first_bar: int = Field(ge=-1000, le=1000)
    last_bar: int = Field(ge=-1000, le=1000)
    name: str = Field(default="", max_length=40)

    def alter(self, data: Data) -> None:
        sections = list_at(data, "sections")
        own = next((each for each in sections if each["id"] == self.section), None)
        if self.section and own is None:
            raise InvalidEdit("the section is not there any more")
        low, high = sorted(min(max(bar, 1), data["bars"]) for bar in (self.first_bar, self.last_bar))
        others = [each for each in sections if each is not own]
        if own is None:
            begun = min(max(self.first_bar, 1), data["bars"])
            if any(each["first_bar"] <= begun <= each["last_bar"] for each in others):
                raise InvalidEdit(f"bar {begun} has a section already")
        else:
            begun = own["first_bar"]
        for each in others:
            if each["last_bar"] < begun:
                low = max(low, each["last_bar"] + 1)
            else:
                high = min(high, each["first_bar"] - 1)
        if high < low:
            low = high = begun
        if own is None:
            taken = {each["name"] for each in sections}
            named = self.name or next(f"section {n}" for n in range(1, 99) if f"section {n}" not in taken)
            made = PieceSection(name=named, first_bar=low, last_bar=high)
            sections.append(made.model_dump(mode="json"))
            sections.sort(key=lambda each: int(each["first_bar"]))
        else:
            own["first_bar"], own["last_bar"] = low, high

    def title(self, before: Stack, after: Stack) -> str:
        if not self.section:
            known = {section.id for section in before.sections}
            made = next(section for section in after.sections if section.id not in known)
            return f"Add {made.name}: {bars_in_words(made)}"
        moved = section_of(after, self.section)
        return f"{moved.name}: {bars_in_words(moved)}"


def bars_in_words(section: PieceSection) -> str:
    """'bar 4', 'bars 3 to 4'."""
    if section.first_bar == section.last_bar:
        return f"bar {section.first_bar}"
    return f"bars {section.first_bar} to {section.last_bar}"


class PartSection(Edit):
    """Cuts a section in two at a bar; both keep all that is otherwise in it."""

    of_the_whole: ClassVar[bool] = True

    op: Literal["part-section"] = "part-section"
    section: str = Field(min_length=1, max_length=40)
    bar: int = Field(ge=2, le=1000)
    """The first bar of what becomes a section of its own."""
    name: str = Field(default="", max_length=40)
    changes: tuple[Data, ...] = Field(default=(), max_length=64)
    """What is otherwise in the second part besides."""

    def alter(self, data: Data) -> None:
        members, place = place_of(data, joined("sections", self.section))
        one = members[place]
        if not one["first_bar"] < self.bar <= one["last_bar"]:
            raise InvalidEdit(f"bar {self.bar} does not lie within '{one['name']}'")
        beats = float((self.bar - one["first_bar"]) * data["beats_per_bar"])
        other = with_fresh_ids(one)
        other["name"] = self.name or f"{one['name'][:36]} end"
        other["first_bar"], one["last_bar"] = self.bar, self.bar - 1
        if one["notes"] is not None:
            other["notes"] = [
                {**note, "start_beats": note["start_beats"] - beats}
                for note in one["notes"]
                if note["start_beats"] >= beats
            ]
            one["notes"] = [note for note in one["notes"] if note["start_beats"] < beats]
        for own, new in zip(one["hits"], other["hits"], strict=True):
            new["hits"] = [hit - beats for hit in own["hits"] if hit >= beats]
            own["hits"] = [hit for hit in own["hits"] if hit < beats]
        changed = {change["path"] for change in self.changes}
        kept = [each for each in other["changes"] if each["path"] not in changed]
        other["changes"] = [*kept, *({"id": new_id(), **change} for change in self.changes)]
        members.insert(place + 1, other)

    def title(self, before: Stack, after: Stack) -> str:
        return f"{section_of(before, self.section).name} ends before bar {self.bar}"


class BuildUp(Edit):
    """A movement that begins with a section and runs over it, of the value at `path`: there alone it is on."""

    of_the_whole: ClassVar[bool] = True

    op: Literal["build-up"] = "build-up"
    section: str = Field(min_length=1, max_length=40)
    path: str = Field(min_length=1, max_length=200)
    travel: float
    """From where it begins, in its own unit or in octaves; it ends where it stands."""

    def alter(self, data: Data) -> None:
        found = get(data, joined("sections", self.section))
        bars = found["last_bar"] - found["first_bar"] + 1
        movement = Movement(
            name=f"build-up of {found['name']}"[:40],
            on=False,
            shape=DrawnCourse(points=starting_points("ramp down")),
            length_beats=min(64.0, float(bars * data["beats_per_bar"])),
            begins="section",
            section=self.section,
            targets=(Target(path=self.path, travel=self.travel),),
        )
        data["movements"].append(movement.model_dump(mode="json"))
        found["changes"].append({"id": new_id(), "path": f"movements/{movement.id}/on", "value": True})

    def title(self, before: Stack, after: Stack) -> str:
        return f"Build-up over {section_of(before, self.section).name}: {place_name(before, self.path)}"


class QuickNotes(Edit):
    """Has a section play its notes so many times as quick, again and again: a fill."""

    of_the_whole: ClassVar[bool] = True

    op: Literal["quick-notes"] = "quick-notes"
    section: str = Field(min_length=1, max_length=40)
    times: float = Field(default=2.0, ge=0.25, le=8.0)

    def meant(self, stack: Stack) -> Edit:
        section = section_of(stack, self.section)
        first, last = section.beats(stack.beats_per_bar)
        inside, _ = _parted(stack.played(), first, last)
        there = tuple(n.model_copy(update={"start_beats": n.start_beats - first}) for n in inside)
        quicker = tuple(
            n.model_copy(
                update={
                    "start_beats": n.start_beats / self.times,
                    "length_beats": max(1 / 64, n.length_beats / self.times),
                }
            )
            for n in there
        )
        notes = again(quicker, (last - first) / self.times, last - first)
        return Otherwise(section=self.section, now={"notes": [note.model_dump(mode="json") for note in notes]})

    def alter(self, data: Data) -> None:
        raise NotImplementedError

    def title(self, before: Stack, after: Stack) -> str:
        return f"In {section_of(before, self.section).name}: notes {self.times:g} times as quick"
