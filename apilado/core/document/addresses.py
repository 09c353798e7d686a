"""Addresses: how the parts and values of a document are pointed at, and the one place that takes them apart.

An address is a path of names and ids, such as `layers/mid/path/k3f9xq2a/drive_db`. It goes through fields by name,
through lists by the id of a member, through maps by a key. Notes and numbers, which have no ids, are named in their
lists by what they are (`pattern/@2.5:36/length_beats` for the C2 that starts after 2.5 beats, `kick/hits/@2.5`) or by
their place. An address stays true when parts are moved; where its part has gone it meets nothing, never another part.

What walks a document works on its model and on its parsed JSON alike.
"""

from __future__ import annotations

import copy
import re
from collections.abc import Iterator
from functools import partial
from typing import Any, TypeVar, cast

from pydantic import BaseModel

from apilado.core.identity import ByIdentity
from apilado.core.parameters import Model
from apilado.core.parts import new_id
from apilado.errors import InvalidEdit

Data = dict[str, Any]
BY_CONTENT = "@"
PLACE = re.compile(r"[0-9]{1,6}")
"""A place in a list of plain values, in plain digits."""
M = TypeVar("M", bound=BaseModel)
MOST_FOUND = 4096
_FOUND = ByIdentity(2048)
"""What lay at addresses of the documents, and of the parts, in which something was looked for last."""
_REPEATED = ByIdentity(4096)
"""What was repeated in parts that were looked through."""


def joined(*parts: str) -> str:
    """The address of parts one within the other."""
    return "/".join(part for part in parts if part)


def parts_of(path: str) -> tuple[str, ...]:
    """The names and ids of an address, from the outside in."""
    return tuple(path.split("/"))


def parted(path: str) -> tuple[str, str]:
    """(the address of what holds a part or value, its name or id there); the holder of a top one is ''."""
    holder, _, last = path.rpartition("/")
    return holder, last


def outwards(path: str) -> Iterator[str]:
    """An address, and those of all that it lies in, from the inside out."""
    while path:
        yield path
        path, _ = parted(path)


def owner_of(path: str) -> str:
    """The address of the layer, bus, drum or backing track that something is of, such as `layers/mid`."""
    first, *rest = parts_of(path)
    return joined(first, *rest[:1]) if first in ("layers", "triggers", "backing") else first


def within(path: str, holder: str) -> bool:
    """Whether an address is that of a part, or of something in it."""
    return path == holder or path.startswith(f"{holder}/")


def member(place: Any, name: str) -> Any:
    """What has a name or an id in a place; None if nothing has."""
    if isinstance(place, BaseModel):
        return getattr(place, name, None) if name in type(place).__pydantic_fields__ else None
    if isinstance(place, dict):
        return place.get(name, place.get(int(name)) if PLACE.fullmatch(name) else None)
    if isinstance(place, list | tuple):
        index = index_in(place, name)
        return None if index is None else place[index]
    return None


def index_in(members: list[Any] | tuple[Any, ...], name: str) -> int | None:
    """The place of a member of a list: by its id where members have ids, else by number; None if it is not there."""
    if not members:
        return None
    if _id_of(members[0]) is None and PLACE.fullmatch(name):
        return int(name) if int(name) < len(members) else None
    called = content_of if name.startswith(BY_CONTENT) else _id_of
    for index, each in enumerate(members):
        if called(each) == name:
            return index
    return None


def walked(root: Any, path: str) -> list[Any]:
    """What lies at each step of an address, the root first; None from where nothing does."""
    found = [root]
    for name in parts_of(path):
        found.append(member(found[-1], name))
    return found


def find(root: Any, path: str) -> Any:
    """What an address points at, or None. In a document, which never changes, it is found once.

    It is found by way of the parts that it lies in: those that an edit leaves alone know it already.
    """
    if not isinstance(root, Model):
        return walked(root, path)[-1]
    known: dict[str, Any] = _FOUND.get(dict, root)
    there = known.get(path)
    if there is None:
        there = _found_in(root, path)
        if there is not None and len(known) < MOST_FOUND:  # whoever asks for nonsense fills no memory
            known[path] = there
    return there


def _found_in(root: Model, path: str) -> Any:
    name, more, rest = path.partition("/")
    part = member(root, name)
    if more and not isinstance(part, BaseModel):
        listed, more, rest = rest.partition("/")
        part = find(root, f"{name}/{listed}") if more else member(part, listed)
    return find(part, rest) if more else part


def reaches(root: Any, path: str) -> bool:
    """Whether an address leads to something: a part, a value, or a layer's share of a duck that is not written down."""
    if find(root, path) is not None:
        return True
    holder, last = parted(path)
    shared_out = parted(holder)[1] == "amounts" and find(root, holder) is not None
    return shared_out and find(root, f"layers/{last}") is not None


def get(root: Any, path: str) -> Any:
    """What an address points at.

    Raises:
        InvalidEdit: nothing is there.
    """
    found = find(root, path)
    if found is None:
        raise InvalidEdit(f"there is nothing at '{path}' any more")
    return found


def holder_of(data: Data, path: str) -> tuple[Any, str]:
    """(what holds a value of parsed JSON, its name there); the value itself may be null or, in a map, missing.

    Raises:
        InvalidEdit: nothing that could hold it is there.
    """
    path_of_holder, last = parted(path)
    holder = find(data, path_of_holder) if path_of_holder else data
    if not isinstance(holder, dict | list):
        raise InvalidEdit(f"there is nothing at '{path}' any more")
    return holder, last


def list_at(data: Data, path: str) -> list[Any]:
    """The list at an address of parsed JSON.

    Raises:
        InvalidEdit: there is none.
    """
    found = find(data, path)
    if not isinstance(found, list):
        raise InvalidEdit(f"there is no list at '{path}'")
    return found


def place_of(data: Data, path: str) -> tuple[list[Any], int]:
    """(the list around a part of parsed JSON, its place there).

    Raises:
        InvalidEdit: the part is not there.
    """
    holder, last = holder_of(data, path)
    index = index_in(holder, last) if isinstance(holder, list) else None
    if index is None:
        raise InvalidEdit(f"there is nothing at '{path}' any more")
    return holder, index


def replace(data: Data, path: str, value: Any) -> None:
    """Puts a value at an address of parsed JSON, in place.

    Raises:
        InvalidEdit: nothing is there.
    """
    holder, last = holder_of(data, path)
    if isinstance(holder, list):
        members, index = place_of(data, path)
        members[index] = value
    elif last in holder:
        holder[last] = value
    else:
        raise InvalidEdit(f"there is nothing at '{path}'")


def replaced(model: M, path: str, value: Any) -> M:
    """A model with another value at an address; what is around it is copied, and not validated again."""
    name, *rest = parts_of(path)
    here = member(model, name)
    if not rest:
        new = value
    elif isinstance(here, tuple):
        index = index_in(here, rest[0])
        if index is None:
            raise InvalidEdit(f"there is nothing at '{path}' any more")
        inner = replaced(here[index], joined(*rest[1:]), value) if rest[1:] else value
        new = (*here[:index], inner, *here[index + 1 :])
    elif isinstance(here, BaseModel):
        new = replaced(here, joined(*rest), value)
    elif isinstance(here, dict) and not rest[1:]:
        new = {**here, rest[0]: value}
    else:
        raise InvalidEdit(f"there is nothing at '{path}' any more")
    return model.model_copy(update={name: new})


REFERS_WITHIN = ("wave", "place")
"""Fields with the id of a part that lies beside their own, or its place, and is copied with it."""


def with_fresh_ids(part: Any, given: dict[str, str] | None = None) -> Any:
    """A copy of a part in parsed JSON in which it, and every part in it, has an id of its own.

    Args:
        given: takes in the id that each has been given, by the one that it was copied from.
    """
    given = {} if given is None else given
    return _pointing(_fresh(part, given), given)


def _pointing(part: Any, given: dict[str, str]) -> Any:
    """A copy in which what pointed at a part that was copied with it points at the copy."""
    if isinstance(part, list):
        return [_pointing(each, given) for each in part]
    if not isinstance(part, dict):
        return part
    return {
        name: "/".join(given.get(each, each) for each in value.split("/"))
        if name in REFERS_WITHIN and isinstance(value, str)
        else _pointing(value, given)
        for name, value in part.items()
    }


def _fresh(part: Any, given: dict[str, str]) -> Any:
    if isinstance(part, list):
        return [_fresh(each, given) for each in part]
    if not isinstance(part, dict):
        return copy.deepcopy(part)
    fresh = {name: _fresh(value, given) for name, value in part.items()}
    if "id" not in part:
        return fresh
    # Ids are told apart within their list alone: where two lists have the same, their copies may too.
    return {**fresh, "id": given.setdefault(part["id"], new_id())}


def carried(path: str, holder: str, copied: str, given: dict[str, str], part: Data) -> str:
    """The address in a copy of what lies at an address in the part that was copied.

    Args:
        given: the ids of the copy, by those of the part.
        part: what was copied, as plain values: which of the names in an address are ids is seen in it.
    """
    names, at = list[str](), cast(Any, part)
    for name in parts_of(path)[len(parts_of(holder)) :]:
        in_list = isinstance(at, list)
        names.append(given.get(name, name) if in_list else name)
        if in_list:
            at = next((each for each in at if each.get("id") == name), {})
        else:
            at = at.get(name, {}) if isinstance(at, dict) else {}
    return joined(copied, *names)


def forget(data: Data, path: str) -> None:
    """Takes out what the rest of a document says about a part that goes: shares of it, pairs with it, movements that
    begin with it."""
    holder, last = parted(path)
    if holder == "sections":
        data["movements"] = [m for m in data["movements"] if m["begins"] != "section" or m["section"] != last]
    beside = find(data, holder) if parted(holder)[1] == "tones" else []
    for wave in beside or ():
        if wave.get("into"):
            wave["into"] = [each for each in wave["into"] if each["wave"] != last]
    for ducker in data["duckers"] if holder == "layers" else ():
        ducker["amounts"].pop(last, None)
    data["pairs"] = [pair for pair in data["pairs"] if not any(within(pair[end], path) for end in ("dip", "lift"))]


def addresses_in(model: BaseModel, holder: str = "") -> Iterator[str]:
    """The addresses of every part in a model that has an id."""
    for name, value in model:
        here = joined(holder, name)
        if isinstance(value, BaseModel):
            yield from addresses_in(value, here)
        elif isinstance(value, tuple):
            for each in value:
                called = _id_of(each) if isinstance(each, BaseModel) else None
                if called is not None:
                    yield joined(here, called)
                    yield from addresses_in(each, joined(here, called))


def repeated(model: BaseModel) -> Iterator[str]:
    """The addresses that two members of one list have, anywhere in a model."""
    for name, value in model:
        if isinstance(value, BaseModel):
            yield from (joined(name, path) for path in repeated(value))
        elif isinstance(value, tuple) and value and _id_of(value[0]) is not None:
            called = [_id_of(each) or "" for each in value]
            if len(set(called)) < len(called):
                yield from (joined(name, each) for place, each in enumerate(called) if each in called[:place])
            for each, named in zip(value, called, strict=True):
                inside: list[str] = _REPEATED.get(partial(_repeated, each), each)
                yield from (joined(name, named, path) for path in inside)


def _repeated(part: BaseModel) -> list[str]:
    return list(repeated(part))


def content_of(each: Any) -> str | None:
    """How a note or a number is named in its list by what it is; None for anything else."""
    if isinstance(each, int | float):
        return f"{BY_CONTENT}{each:g}"
    start, pitch = (member(each, name) for name in ("start_beats", "pitch")) if _holds(each) else (None, None)
    return None if start is None or pitch is None else f"{BY_CONTENT}{start:g}:{pitch}"


def renamed(root: Any, path: str, value: Any) -> tuple[str, str] | None:
    """(the address of the note or number in which a value lies, its address once that is set); None where neither is
    named by what it is."""
    for name in (path, parted(path)[0]):
        holder, last = parted(name)
        part = find(root, name)
        if last.startswith(BY_CONTENT) and part is not None:
            new = part.model_copy(update={parted(path)[1]: value}) if isinstance(part, BaseModel) else value
            return name, joined(holder, content_of(new) or last)
    return None


def _holds(each: Any) -> bool:
    return isinstance(each, BaseModel | dict)


def _id_of(each: Any) -> str | None:
    found = each.get("id") if isinstance(each, dict) else getattr(each, "id", None)
    return found if isinstance(found, str) else None
