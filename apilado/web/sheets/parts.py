"""The sheet of a part that declares itself: its values, its groups and its lists, however deep; no part has one of its
own. What a kind of part can do besides stands in `EXTRAS`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from pydantic import BaseModel

from apilado.core.banded import Band
from apilado.core.document.addresses import find, joined, owner_of, parted, parts_of, within
from apilado.core.document.carving import MOST_PAIRS
from apilado.core.document.declarations import list_declared
from apilado.core.document.equaliser import KeyedBell, Point, eq_sections, still_and_moving
from apilado.core.document.kick import Drum
from apilado.core.document.naming import numbered, place_name, with_article
from apilado.core.document.path import Aside, ChainedBand, Container, Points, Split
from apilado.core.document.stack import BUSES, Stack
from apilado.core.dsp.filters import sections_response
from apilado.core.dsp.linear_phase import rings_ms
from apilado.core.parameters import Model, PartList, groups_of, optionals_of, part_lists_of
from apilado.core.parts import Part
from apilado.core.sketch import SKETCH_POINTS, Sketch, response_sketch
from apilado.core.sources.settings import Setting
from apilado.core.sources.wave import Tone
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.cabinet import ImpulseResponse
from apilado.core.units import gain_to_db
from apilado.web.drawings.view import HIGHEST_HZ, LOWEST_HZ, band_names
from apilado.web.items import point_key
from apilado.web.sheets.base import (
    AUDIO_ACCEPT,
    Action,
    Add,
    Field,
    Line,
    Section,
    fields_of,
    first_and_rest,
    menu_field,
    switch_of,
)

LONG_RINGING_MS = 50.0


@dataclass(frozen=True)
class Extras:
    """What stands in a section besides what its part declares."""

    fields: tuple[Field, ...] = ()
    actions: tuple[Action, ...] = ()
    children: tuple[Section, ...] = ()
    note: str = ""
    key: str = ""
    words: str = ""
    sketch: Sketch | None = None


def part_section(
    stack: Stack, part: BaseModel, path: str, title: str, *, without: tuple[str, ...] = (), words: str = ""
) -> Section:
    """Everything of the part at an address; in a few words what it says of itself, if no others are given."""
    extras = extras_of(stack, part, path)
    groups: tuple[Section, ...] = tuple(
        replace(part_section(stack, getattr(part, name), joined(path, name), label), folded=True, line=None)
        for name, label in groups_of(type(part))
    )
    choices, optional_ones = _optionals(stack, part, path)
    groups += optional_ones
    lists = [
        (listed, each)
        for listed in part_lists_of(type(part))
        if listed.name not in without and not (isinstance(part, Model) and listed.name in part.unused())
        for each in [part_list(stack, part, path, listed)]
    ]
    fields = fields_of(part, path, without=without, stack=stack)
    if isinstance(part, Points):
        asks = pairs_asked(stack, path)
        fields = tuple(
            replace(each, asks=asks) if each.parameter.name == "on" and each.value else each for each in fields
        )
    switch, fields = switch_of(fields)
    first, rest = first_and_rest(part, fields)
    words = extras.words or words or (part.in_words() if isinstance(part, Model) else "")
    sketch = extras.sketch or (part.sketch() if isinstance(part, Model) else None)
    of_one_kind = [add for listed, (_, adds) in lists if len(listed.kinds) == 1 for add in adds]
    single = [add for add in of_one_kind if add.edit["op"] == "add"]
    menus = tuple(
        menu_field(joined(path, add.family), add.family.capitalize(), [(add.edit, add.label, False)])
        for add in of_one_kind
        if add not in single
    )
    several = [(listed, adds) for listed, (_, adds) in lists if len(listed.kinds) > 1 and adds]
    return Section(
        title,
        first,
        (*(Action(add.label, add.edit) for add in single), *extras.actions),
        (*rest, *choices, *menus, *extras.fields),
        Line(path, words, sketch, switch, curve=isinstance(part, Treatment) and part.has_curve),
        adds=tuple(add for _, adds in several for add in adds),
        adds_title=f"Add {with_article(several[0][0].noun)}" if several else "",
        children=(*(child for _, (children, _) in lists for child in children), *extras.children, *groups),
        note=extras.note,
        key=extras.key or path,
    )


def _stopping_short(fields: tuple[Field, ...], band: str) -> tuple[Field, ...]:
    """The fields of a band: where it begins stops short of its neighbours, by an edit of its own."""
    moves = {"op": "move-band", "band": band}
    return tuple(replace(f, edit=moves, name="frequency_hz") if f.parameter.name == "from_hz" else f for f in fields)


def _optionals(stack: Stack, part: BaseModel, path: str) -> tuple[tuple[Field, ...], tuple[Section, ...]]:
    """(the choices of whether a part has the models that it may have, the sections of those that it has)."""
    choices, sections = [], []
    for name, label, otherwise, begins in optionals_of(type(part)):
        here, own = joined(path, name), getattr(part, name)
        without, given = ({"op": "set", "path": here, "value": value} for value in (None, begins))
        states = [(without, otherwise, own is None), (given, "its own", own is not None)]
        choices.append(menu_field(here, label, states))
        if own is not None:
            sections.append(part_section(stack, own, here, label))
    return tuple(choices), tuple(sections)


def part_list(
    stack: Stack, holder: BaseModel, path: str, listed: PartList
) -> tuple[tuple[Section, ...], tuple[Add, ...]]:
    """(a section with a line for each member of a list, what can be added to it)."""
    members, own = getattr(holder, listed.name), isinstance(holder, Model)
    children = []
    for index, member in enumerate(members):
        here = joined(path, listed.name, member.id)
        title, unused = member_title(members, member, listed), holder.unused_in(member) if own else ()
        section = part_section(stack, member, here, title, without=unused, words=holder.words_of(member) if own else "")
        if isinstance(member, Band):
            section = replace(
                section, fields=_stopping_short(section.fields, here), rest=_stopping_short(section.rest, here)
            )
        actions = (*section.actions, *_member_actions(stack, members, index, here, listed))
        line = _placed(section.line, members, index, here, listed)
        rest = (*section.rest, *copies_of(stack, member, here))
        children.append(replace(section, actions=actions, line=line, rest=rest))
    return tuple(children), _adds(stack, path, members, listed)


def _placed(line: Line | None, members: tuple[Part, ...], index: int, here: str, listed: PartList) -> Line | None:
    """The line of a member of a list, with what moves it to another place where their order is heard."""
    if line is None or not listed.ordered:
        return line

    def move(to: int) -> dict[str, object] | None:
        return {"op": "move", "path": here, "to": to} if 0 <= to < len(members) else None

    list_path, _ = parted(here)
    places = {"earlier": move(index - 1), "later": move(index + 1)}
    return replace(line, measured=True, list_path=list_path, place=index, **places)


def member_title(members: tuple[Part, ...], member: Part, listed: PartList) -> str:
    """A member by its kind, with its number where there are more of that kind."""
    if not getattr(type(member), "label", ""):
        return str(getattr(member, "name", listed.noun))
    if listed.ordered and sum(type(each) is type(member) for each in members) == 1:
        return str(type(member).label)
    name = numbered(members, member)
    return name[:1].upper() + name[1:]


def _member_actions(
    stack: Stack, members: tuple[Part, ...], index: int, here: str, listed: PartList
) -> tuple[Action, ...]:
    actions = []
    if listed.ordered and len(members) < listed.most and not isinstance(members[index], Split):
        actions.append(Action("Copy", {"op": "copy-part", "path": here, "to": parted(here)[0]}))
    if len(members) > listed.least and not isinstance(members[index], Split):
        asks = pairs_asked(stack, here)
        actions.append(Action("Remove", {"op": "remove", "path": here}, danger=True, asks=asks))
    return tuple(actions)


def pairs_asked(stack: Stack, path: str) -> str:
    """What is asked before a part goes that carve pairs hang on; '' where none does."""
    ends = [(pair.dip, pair.lift) for pair in stack.pairs if within(pair.dip, path) or within(pair.lift, path)]
    if not ends:
        return ""
    others = {stack.owner_name(other if within(own, path) else own) for own, other in ends}
    pairs = "a carve pair" if len(ends) == 1 else f"{len(ends)} carve pairs"
    return f"This EQ shares {pairs} with {' and '.join(sorted(others))}: what hangs on it stops too. Go on?"


def _adds(stack: Stack, path: str, members: tuple[Part, ...], listed: PartList) -> tuple[Add, ...]:
    if len(members) >= listed.most:
        return ()
    there, adds, holder = joined(path, listed.name), [], find(stack, path)
    values, after = holder.next_part(listed.name) if isinstance(holder, Model) else ({}, "")
    for model in listed.kinds:
        if not _can_stand(stack, path, model):
            continue
        kind = model.model_fields.get("kind")
        first = {**getattr(model, "first_values", {}), **values}
        part = {"kind": kind.default, **first} if kind else first
        label = str(getattr(model, "label", listed.noun))
        name = f"Add {with_article(listed.noun)}" if len(listed.kinds) == 1 else label
        family = str(getattr(model, "family", "")) or f"{listed.noun}s"
        edit = {"op": "add", "path": there, "part": part, **({"after": joined(there, after)} if after else {})}
        if added_by := getattr(model, "added_by", ""):
            edit, name = {"op": added_by, "path": path}, f"Keep {with_article(listed.noun)}"
        adds.append(Add(name, family, str(getattr(model, "explains", "")), edit))
    return tuple(adds)


def _can_stand(stack: Stack, path: str, model: type[BaseModel]) -> bool:
    """Whether one more of a kind can be added: there is one split, and a single hit has nothing to follow."""
    if issubclass(model, Split):
        return False
    return not (issubclass(model, KeyedBell) and isinstance(find(stack, owner_of(path)), Drum))


def treatment_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """Hearing it exaggerated, what it adds, and the sound without it."""
    can = isinstance(part, Treatment) and part.overdone() is not None
    overdo = (Action("Overdo", overdo=path),) if can else ()
    return Extras(actions=(*overdo, *heard_apart(part, path)))


def heard_apart(part: BaseModel, path: str) -> tuple[Action, ...]:
    """What a step that is on adds, and the sound without it."""
    if not getattr(part, "on", False):
        return ()
    return Action("What it adds", adds=path), Action("Without", without=path)


def copies_of(stack: Stack, part: Part, path: str) -> tuple[Field, ...]:
    """The menu of the other layers and buses whose list of the same name a part can be copied to."""
    own, (holder, _), moves = owner_of(path), parted(path), is_moved(stack, path)
    inner = joined(*parts_of(holder)[len(parts_of(own)) :])
    others = []
    for to in (*(f"layers/{layer.id}" for layer in stack.layers), *BUSES):
        there = joined(to, inner)
        declared = list_declared(stack, there) if to != own and not isinstance(part, Split) else None
        if declared is not None and isinstance(part, declared.kinds) and len(find(stack, there)) < declared.most:
            edit = {"op": "copy-part", "path": path, "to": there}
            others += with_and_without(edit, stack.owner_name(to), moves=moves)
    return (menu_field(joined(path, "copy"), "Copy to", others),) if others else ()


def is_moved(stack: Stack, path: str) -> bool:
    """Whether a movement moves something at an address, or a section has it otherwise."""
    moved = any(within(target.path, path) for movement in stack.movements for target in movement.targets)
    return moved or any(within(change.path, path) for section in stack.sections for change in section.changes)


def with_and_without(edit: dict[str, object], name: str, *, moves: bool) -> list[tuple[dict[str, object], str, bool]]:
    """The choices of a copy: as it is, and, where something moves it, without that."""
    still = [({**edit, "movements": False}, f"{name}, without what moves it", False)] if moves else []
    return [(edit, name, False), *still]


def chain_copies(stack: Stack, path: str) -> tuple[Field, ...]:
    """The menu of the layers, the buses and the bands beside it to which a chain can be copied, by that of its list."""
    steps, own = [step for step in find(stack, path) if not isinstance(step, Split)], parted(path)[0]
    if not steps:
        return ()
    beside, (listed, _) = [], parted(own)
    if parted(listed)[1] == "bands":
        beside = [joined(listed, band.id) for band in find(stack, listed)]
    others: list[tuple[dict[str, object], str, bool]] = []
    for to in (*beside, *(f"layers/{layer.id}" for layer in stack.layers), *BUSES):
        there = joined(to, "path")
        declared = list_declared(stack, there)
        if to == own or declared is None or len(find(stack, there)) + len(steps) > declared.most:
            continue
        if all(isinstance(step, declared.kinds) for step in steps):
            edit: dict[str, object] = {"op": "copy-chain", "path": path, "to": there}
            others += with_and_without(edit, place_name(stack, to), moves=is_moved(stack, path))
    return (menu_field(joined(path, "copy"), "Copy the chain to", others),) if others else ()


def point_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """Copying an EQ point, and hearing what it touches."""
    own = owner_of(path)
    others = [
        ({"op": "copy-point", "path": path, "to": to}, stack.owner_name(to), False)
        for to in stack.owners()
        if to != own
    ]
    copy = menu_field(joined(path, "copy"), "Copy to", others)
    alone, left_out = Action("Hear it alone", listen=path), Action("Without", without=path)
    return Extras((copy,), (alone, left_out), key=point_key(path))


def eq_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """The carve pairs of an EQ, and what it costs."""
    owner, points = owner_of(path), part.points if isinstance(part, Points) else ()
    linear = getattr(part, "phase", "") == "linear-phase"
    note = "Double-click in the Profile adds a point; pull it there." if not points else ""
    fields: tuple[Field, ...] = ()
    if owner != "shared" and path in stack.eqs_of(owner) and len(stack.pairs) < MOST_PAIRS:
        others = [each for each in stack.owners() if each not in (owner, "shared")]
        pairs = [({"op": "add-pair", "dip": path, "lift": to}, stack.owner_name(to), False) for to in others]
        fields = (menu_field(joined(path, "pair"), "Pair with", pairs),)
    alike = [each for each in stack.equalisers() if within(each, owner)]
    still, moving = still_and_moving(stack.points_of(path))
    at = np.geomspace(LOWEST_HZ, HIGHEST_HZ, SKETCH_POINTS)
    sections = eq_sections((*still, *moving), stack.sample_rate)
    gains = gain_to_db(np.abs(sections_response(sections, at, stack.sample_rate)))
    return Extras(
        fields,
        (
            *((Action("Pull in the Profile", pull=path),) if len(alike) > 1 else ()),
            *((Action("Keep", keeps="eq", within=path),) if "/path/" in path else ()),
            *(heard_apart(part, path) if "/path/" in path else ()),
        ),
        tuple(_pair_section(stack, pair.id) for pair in stack.pairs if path in (pair.dip, pair.lift)),
        f"{_ringing_said(stack, path)} {note}".strip() if linear else note,
        key=path,
        sketch=response_sketch(gains),
    )


def _pair_section(stack: Stack, pair_id: str) -> Section:
    here = f"pairs/{pair_id}"
    pair = next(pair for pair in stack.pairs if pair.id == pair_id)
    title = f"Pair: {stack.owner_name(pair.dip)} gives, {stack.owner_name(pair.lift)} takes"
    drop = Action("Remove", {"op": "remove", "path": here}, danger=True)
    return Section(title, fields_of(pair, here), (Action("Without", without=here), drop), key=point_key(here))


def _ringing_said(stack: Stack, eq: str) -> str:
    """What a linear phase costs: the points ring before a sound as long as after it."""
    still, _ = still_and_moving(stack.points_of(eq))
    rings = rings_ms(eq_sections(still, stack.sample_rate), stack.sample_rate)
    said = f"These points ring {rings:.0f} ms before every sound, as long as after it, until they are 60 dB down."
    if rings > LONG_RINGING_MS:
        said += " That is heard as a swell before each note; in one pass what rings before the first beat is cut off."
    return said


def split_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """What the place of the split means."""
    layer = find(stack, owner_of(path))
    before = any(
        isinstance(step, Treatment) for step in layer.path[: [s.id for s in layer.path].index(parted(path)[1])]
    )
    after = "What the treatments before it add outside the band is cut." if before else ""
    names = band_names(stack)
    options = [
        (
            {"op": "set", "path": joined(owner_of(path), "span"), "value": {"first": first, "last": last}},
            names[first] if first == last else f"{names[first].split('–')[0]}–{names[last].split('–')[1]}",
            (first, last) == (layer.span.first, layer.span.last),
        )
        for first in range(len(names))
        for last in range(first, len(names))
    ]
    words = next(name for _, name, now in options if now)
    band = menu_field(joined(owner_of(path), "span"), "Band", options)
    return Extras((band,), note=after or "Only the layer's band goes into what stands behind it.", words=words)


def container_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """What the chains add, and the sound without them."""
    chain = chain_copies(stack, joined(path, "path")) if isinstance(part, Aside) else ()
    return Extras(chain, heard_apart(part, path))


def band_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """Copying the chain of a band, and hearing the band alone."""
    return Extras(chain_copies(stack, joined(path, "path")), (Action("Hear it alone", listen=path),))


def wave_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """The table of a wave: read from a file, or drawn."""
    if not isinstance(part, Tone) or part.shape != "table":
        return Extras()
    read = Action("Read a table from a file", upload=path, accept=AUDIO_ACCEPT)
    if part.recorded is None:
        note = "" if part.table else "No cycles yet: it sounds as a sine. Add some, or read them from a file."
        return Extras(actions=(read,), note=note)
    drawn = Action("Draw its cycles", {"op": "set", "path": joined(path, "recorded"), "value": None})
    fields = fields_of(part.recorded, joined(path, "recorded"), "cycle_frames")
    return Extras(fields, (read, drawn), note=f"Table: {part.recorded.file_name}")


def response_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """The response of a cabinet: read from a file, or one of ours."""
    read = Action("Read a response from a file", upload=path, accept=AUDIO_ACCEPT)
    if not isinstance(part, ImpulseResponse) or part.recorded is None:
        return Extras(actions=(read,))
    ours = Action("Use a box of ours", {"op": "set", "path": joined(path, "recorded"), "value": None})
    return Extras(actions=(read, ours), note=f"Response: {part.recorded.file_name}")


def setting_extras(stack: Stack, part: BaseModel, path: str) -> Extras:
    """Setting the waves to what a setting keeps."""
    return Extras(actions=(Action("Set the waves to it", {"op": "take-setting", "path": path}),))


EXTRAS: tuple[tuple[type[BaseModel], Callable[[Stack, BaseModel, str], Extras]], ...] = (
    (Treatment, treatment_extras),
    (Point, point_extras),
    (Points, eq_extras),
    (Split, split_extras),
    (Container, container_extras),
    (Tone, wave_extras),
    (ImpulseResponse, response_extras),
    (Setting, setting_extras),
    (ChainedBand, band_extras),
)


def extras_of(stack: Stack, part: BaseModel, path: str) -> Extras:
    """What a kind of part can do besides holding values."""
    return next((make(stack, part, path) for model, make in EXTRAS if isinstance(part, model)), Extras())
