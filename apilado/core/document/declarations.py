"""What is declared of the places of a document: the parameter of a value, and how a part of another kind begins."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from pydantic import BaseModel

from apilado.core.document.addresses import find, joined, owner_of, parted, reaches, walked, within
from apilado.core.document.section import OF_THE_WHOLE
from apilado.core.parameters import Parameter, PartList, models_in, parameters_by_name, part_lists_of
from apilado.errors import InvalidEdit

if TYPE_CHECKING:
    from apilado.core.document.stack import Stack


def parameter_at(root: BaseModel, path: str) -> Parameter | None:
    """What is declared of the value at an address, if anything; of one of several numbers, what each of them is."""
    path_of_holder, last = parted(path)
    holder = find(root, path_of_holder) if path_of_holder else root
    if isinstance(holder, tuple | dict):
        listed = parameter_at(root, path_of_holder)
        return listed.each() if listed is not None and listed.kind in ("numbers", "map") else None
    return parameters_by_name(type(holder)).get(last) if isinstance(holder, BaseModel) else None


def value_at(root: BaseModel, path: str) -> Any:
    """The value at an address; what a share is that is not written down. None where there is nothing."""
    if not reaches(root, path):
        return None
    found, declared = find(root, path), parameter_at(root, path)
    return declared.default if found is None and declared is not None else found


def in_drum_eq(path: str) -> bool:
    """Whether an address lies in the EQ of a drum."""
    owner = owner_of(path)
    return (owner == "kick" or within(owner, "triggers")) and within(path, joined(owner, "eq"))


def still_because(root: BaseModel, path: str) -> str:
    """Why the value at an address cannot move; '' where it can."""
    parameter = parameter_at(root, path)
    if parameter is None or parameter.kind not in ("number", "integer"):
        return "it is no single number"
    if not parameter.moves:
        return "it is a count, or what it shapes is made as a whole"
    if in_drum_eq(path):
        return "a drum's hit is made once, and laid where it hits"
    eqs = [each for each in walked(root, path)[:-1] if getattr(each, "kind", "") == "eq"]
    if any(eq.phase == "linear-phase" for eq in eqs):
        return "its EQ has a linear phase, which is made as a whole"
    return ""


def refused_in_section(root: BaseModel, path: str, value: Any) -> str:
    """Why a section cannot have a value at an address; '' where it can."""
    parameter, of_layers = parameter_at(root, path), parted(owner_of(path))[0] == "layers"
    if parameter is None or not reaches(root, path) or within(path, "sections"):
        return f"there is no value at '{path}'"
    if path in OF_THE_WHOLE:
        return f"'{path}' is of the whole piece: the time hangs on it"
    if parameter.kind == "text" or parameter.name == "tint":
        return f"'{path}' is of the whole piece: a part is called and drawn alike all along"
    if parameter.kind == "reference" and of_layers and parameter.among == "layers":
        return f"'{path}' is of the whole piece: what a layer takes its sound from"
    if parameter.name == "hits" and parameter.kind == "numbers":
        return f"'{path}' is no value to change: a section has hits of its own"
    try:
        parameter.parsed(value)
    except ValueError as error:
        return f"{parameter.label.lower()} {error}"
    return ""


def list_declared(stack: Stack, path: str) -> PartList | None:
    """What is declared of the list of parts at an address; None where no such list is."""
    path_of_holder, last = parted(path)
    holder = find(stack, path_of_holder) if path_of_holder else stack
    lists = part_lists_of(type(holder)) if isinstance(holder, BaseModel) else ()
    return next((each for each in lists if each.name == last), None)


def kinds_at(stack: Stack, path: str) -> tuple[type[BaseModel], ...]:
    """The kinds of part that can stand at an address, or in the list there; none where nothing but one can."""
    path_of_holder, last = parted(path)
    holder = find(stack, path_of_holder) if path_of_holder else stack
    if not isinstance(holder, BaseModel) or last not in type(holder).model_fields:
        return ()
    return tuple(each for each in models_in(type(holder).model_fields[last].annotation) if "kind" in each.model_fields)


def kind_of(stack: Stack, path: str, kind: Any, what: str) -> type[BaseModel]:
    """The model of a kind of part that is to stand at an address.

    Raises:
        InvalidEdit: there is no such kind.
    """
    kinds = {model.model_fields["kind"].default: model for model in kinds_at(stack, path)}
    if not isinstance(kind, str) or kind not in kinds:
        article = "an" if what[0] in "AEIOUaeiou" else "a"
        raise InvalidEdit(f"{article} {what} is one of {', '.join(kinds)}, not '{str(kind)[:40]}'")
    return kinds[kind]


def beginning(stack: Stack, path: str, kind: Any) -> dict[str, Any]:
    """A part of another kind for an address, as it begins there.

    Raises:
        InvalidEdit: there is no such kind, or it cannot begin with nothing.
    """
    model = kind_of(stack, path, kind, parted(path)[1])
    begin = getattr(model, "beginning", None)
    made: dict[str, Any] = begin(stack, find(stack, parted(path)[0])) if begin else {}
    return {"kind": kind, **made}
