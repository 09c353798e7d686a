"""Movements in a sheet: their lines, the marks on what may move, and how far it travels."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from apilado.core.document.addresses import joined, parted, within
from apilado.core.document.declarations import parameter_at, still_because, value_at
from apilado.core.document.edits_movements import first_travel
from apilado.core.document.kick import Drum
from apilado.core.document.layer import Layer
from apilado.core.document.movement import MOST_MOVEMENTS, STARTS, Movement, Target
from apilado.core.document.naming import place_name
from apilado.core.document.stack import BUSES, Bus, Space, Stack
from apilado.core.parameters import Parameter
from apilado.core.parts import new_id
from apilado.core.render.moves import ends_of
from apilado.web.items import course_item
from apilado.web.sheets.base import Action, Field, Line, Section, fields_of, first_and_rest, menu_field, switch_of
from apilado.web.sheets.reach import Reach


@dataclass(frozen=True)
class MovedBy:
    """One movement of a value."""

    movement: Movement
    target: Target
    path: str
    """The address of the target."""
    begin: float
    end: float
    """Between which shares of the value's slider it travels."""


@dataclass(frozen=True)
class Mark:
    """What a control shows of what moves its value, or may."""

    movers: tuple[MovedBy, ...]
    offers: tuple[tuple[dict[str, object], str], ...]
    """(edit, what it is called) of what could move it too."""
    still: str
    """Why it does not move, where it could if other things were otherwise."""


def belongs(target: Target, owner: str) -> bool:
    """Whether a target is a value of a layer, bus or drum; a layer's share of a duck is the layer's."""
    holder, last = parted(target.path)
    shares = parted(holder)[1] == "amounts"
    return within(target.path, owner) or (shares and joined("layers", last) == owner)


def movements_of(stack: Stack, owner: str) -> tuple[Movement, ...]:
    """The movements that move something of a layer, bus or drum."""
    return tuple(each for each in stack.movements if any(belongs(target, owner) for target in each.targets))


def movement_lines(stack: Stack, owner: str) -> tuple[Section, ...]:
    """A line for each movement of a layer, bus or drum."""
    return tuple(movement_section(stack, movement, owner) for movement in movements_of(stack, owner))


def movement_section(stack: Stack, movement: Movement, owner: str) -> Section:
    """Everything of a movement."""
    path = f"movements/{movement.id}"
    switch, own = switch_of(fields_of(movement, path, stack=stack))
    first, rest = first_and_rest(movement, own)
    others = [
        ({"op": "copy-movement", "movement": movement.id, "to": f"layers/{layer.id}"}, layer.name, False)
        for layer in stack.layers
        if f"layers/{layer.id}" != owner
    ]
    copy = (menu_field(joined(path, "copy"), "Copy to", others),) if others and within(owner, "layers") else ()
    shape = fields_of(movement.shape, joined(path, "shape"), stack=stack)
    moved = ", ".join(
        place_name(stack, target.path).removesuffix(f" of {stack.owner_name(owner)}") for target in movement.targets
    )
    return Section(
        movement.name,
        (_shapes(movement, path, stack), *shape, *first),
        (
            Action("Without", without=path),
            Action("Keep", keeps="movement", within=path),
            Action("Remove", {"op": "remove", "path": path}, danger=True),
        ),
        (*rest, *copy),
        Line(path, f"{moved} · {movement.in_words()}", movement.sketch(), switch),
        key=path,
        children=tuple(_target(stack, movement, target) for target in movement.targets),
        note="" if movement.shape.follows() else "Its lane in the Time strip is pulled in any repetition.",
    )


def _shapes(movement: Movement, path: str, stack: Stack) -> Field:
    """The starting shapes, to be filled in; random steps are drawn anew each time."""
    now = movement.shape.in_words()
    options = [
        (
            {"op": "shape-movement", "movement": movement.id, "start": start, "seed": stack.seed + _drawn(movement)},
            start,
            start == now,
        )
        for start in STARTS
    ]
    return menu_field(joined(path, "starts"), "Shape", options)


def _drawn(movement: Movement) -> int:
    """A seed that is another one when steps have been drawn."""
    values = getattr(movement.shape, "values", ())
    return 1 + round(1e6 * sum(values)) % 1_000_000


def _target(stack: Stack, movement: Movement, target: Target) -> Section:
    here = f"movements/{movement.id}/targets/{target.id}"
    parameter = parameter_at(stack, target.path)
    fields = fields_of(target, here)
    if parameter is not None:
        fields = tuple(_in_its_unit(each, parameter) for each in fields)
    remove = Action("Moves it no longer", {"op": "remove", "path": here}, danger=True)
    return Section(place_name(stack, target.path), fields, (remove,) if len(movement.targets) > 1 else (), key=here)


def _in_its_unit(field: Field, parameter: Parameter) -> Field:
    """The travel in the unit of what is moved, as far as its range goes."""
    if field.parameter.name != "travel":
        return field
    octaves = parameter.scale == "log"
    widest = 10.0 if octaves else parameter.high - parameter.low
    unit = "oct" if octaves else parameter.unit
    declared = replace(field.parameter, low=-widest, high=widest, unit=unit, step=0.01 if octaves else parameter.step)
    return replace(field, parameter=declared)


def marks_of(reach: Reach, paths: Iterator[str] | list[str], opened: frozenset[str]) -> dict[str, Mark]:
    """The marks of the controls of values at addresses; what could move them is told for those that are opened."""
    stack = reach.stack
    by_path: dict[str, list[tuple[Movement, Target]]] = {}
    for movement in stack.movements:
        for target in movement.targets:
            by_path.setdefault(target.path, []).append((movement, target))
    found = {}
    for path in paths:
        parameter = parameter_at(stack, path)
        if parameter is None or not parameter.moves:
            continue
        movers = tuple(_moved_by(reach, parameter, each, target) for each, target in by_path.get(path, ()))
        is_open = f"~{path}" in opened
        still = still_because(stack, path) if is_open else ""
        offers = _offers(stack, path, parameter, movers) if is_open and not still else ()
        found[path] = Mark(movers, offers, still)
    return found


def _moved_by(reach: Reach, parameter: Parameter, movement: Movement, target: Target) -> MovedBy:
    begin, end = ends_of(parameter, float(value_at(reach.stack, target.path)), target)
    path, slid = f"movements/{movement.id}/targets/{target.id}", reach.of(target.path, parameter)
    return MovedBy(movement, target, path, slid.share(begin), slid.share(end))


def _offers(
    stack: Stack, path: str, parameter: Parameter, movers: tuple[MovedBy, ...]
) -> tuple[tuple[dict[str, object], str], ...]:
    new: list[tuple[dict[str, object], str]] = []
    if len(stack.movements) < MOST_MOVEMENTS:
        new = [({"op": "add-movement", "path": path, "start": start}, f"new: {start}") for start in STARTS]
    theirs = {each.movement.id for each in movers}
    travel = first_travel(parameter, float(value_at(stack, path)))
    there: list[tuple[dict[str, object], str]] = [
        (
            {
                "op": "add",
                "path": f"movements/{each.id}/targets",
                "part": {"id": new_id(), "path": path, "travel": travel},
            },
            f"by {each.name}",
        )
        for each in stack.movements
        if each.id not in theirs
    ]
    return (*there, *new)


def course_point_section(stack: Stack, item: str) -> tuple[Section, ...]:
    """The numbers of the point of a course that is chosen in its lane."""
    found = course_item(stack, item)
    if found is None:
        return ()
    movement, place = found
    here = f"movements/{movement.id}/shape/points/{place}"
    point = getattr(movement.shape, "points", ())[place]
    fields = tuple(
        replace(each, edit={"op": "course-point", "movement": movement.id, "place": place}, name=each.parameter.name)
        for each in fields_of(point, here)
    )
    gone = {"op": "course-point", "movement": movement.id, "place": place, "gone": True}
    return (Section(f"Point {place + 1} of {movement.name}", fields, (Action("Remove point", gone, danger=True),)),)


def place_words(part: Layer | Bus | Space | Drum) -> str:
    """Where a part stands, in a few words."""
    said = [f"{part.level_db:g} dB"]
    if isinstance(part, Layer):
        said.append("mono" if part.mono else f"{100.0 * part.width:.0f} %")
        said += [f"{100.0 * abs(part.pan):.0f} % {'left' if part.pan < 0.0 else 'right'}"] if part.pan else []
        said += [f"{part.delay_ms:g} ms late"] if part.delay_ms else []
    if getattr(part, "polarity", "normal") == "inverted":
        said.append("inverted")
    below = getattr(part, "mono_below_hz", 0.0)
    said += [f"mono below {below:g} Hz"] if below else []
    return ", ".join(said).replace("-", "−")


def owner_of_selection(stack: Stack, selected: str) -> str | None:
    """The address of the layer, bus or drum that is selected; None where something else is."""
    kind, _, name = selected.partition(":")
    if kind == "layer":
        return f"layers/{name}" if stack.layer(name) is not None else None
    if kind == "trigger":
        return f"triggers/{name}" if name in stack.drum_names() else None
    return kind if kind in (*BUSES, "kick") else None
