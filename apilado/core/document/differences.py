"""What differs between two states of a stack, in words, part by part; each can be taken over as an edit."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from apilado.core.document.addresses import find, joined, owner_of
from apilado.core.document.declarations import parameter_at
from apilado.core.document.edits import AnyEdit
from apilado.core.document.edits_values import AddPart, RemovePart, SetValue, TakeOver
from apilado.core.document.naming import place_name, value_text
from apilado.core.document.stack import Stack
from apilado.core.parts import Part

HANGING_TOGETHER = ("bars", "crossovers", "layers", "triggers", "duckers", "movements", "pairs", "sections")
"""What points at layers and borders: where these are others, all of it is taken over at once."""
NOT_COMPARED = ("format", "version", "name")


@dataclass(frozen=True)
class Difference:
    """One thing that is otherwise in another state of a stack."""

    owner: str
    """What it belongs to: 'layers/mid', 'bus', '' for the piece."""
    words: str
    edit: AnyEdit
    """Takes it over."""


def differences(now: Stack, other: Stack) -> list[Difference]:
    """What is otherwise in another state than now, each with the edit that takes it over."""
    found = list(_split(now, other))
    split = bool(found)
    for name in type(now).model_fields:
        if name not in NOT_COMPARED and not (split and name == "crossovers"):
            found += _of_field(now, other, "", name, getattr(now, name), getattr(other, name), split=split)
    return found


def whole(other: Stack) -> TakeOver:
    """The edit that makes a stack what it is in another state, but for its name."""
    data = other.model_dump(mode="json")
    return TakeOver(values={name: value for name, value in data.items() if name not in NOT_COMPARED})


def _split(now: Stack, other: Stack) -> Iterator[Difference]:
    """Whether the layers and the borders themselves are others."""

    def shape(stack: Stack) -> tuple[Any, ...]:
        layers = [(layer.id, layer.span.first, layer.span.last) for layer in stack.layers]
        return layers, [border.id for border in stack.crossovers]

    def told(stack: Stack) -> str:
        names = ", ".join(layer.name for layer in stack.layers) or "none"
        borders = ", ".join(f"{border.frequency_hz:.0f}" for border in stack.crossovers)
        return f"{names}{f', split at {borders} Hz' if borders else ''}"

    if shape(now) != shape(other):
        values = {name: _plain(getattr(other, name)) for name in HANGING_TOGETHER}
        edit = TakeOver(values=values, what="the layers and their split")
        yield Difference("", f"Layers: {told(other)}; now {told(now)}", edit)


def _of_field(
    now: Stack, other: Stack, holder: str, name: str, here: Any, there: Any, *, split: bool = False
) -> Iterator[Difference]:
    path = joined(holder, name) if holder else name
    if here == there:
        return
    if isinstance(here, BaseModel) and type(here) is type(there):
        for field in type(here).model_fields:
            yield from _of_field(now, other, path, field, getattr(here, field), getattr(there, field))
    elif isinstance(here, tuple) and isinstance(there, tuple) and all(isinstance(p, Part) for p in (*here, *there)):
        yield from _of_parts(now, other, path, here, there, membership=not split)
    else:
        value = _plain(there)
        yield Difference(_owner(now, path), _said(now, other, path, here, there), SetValue(path=path, value=value))


def _of_parts(
    now: Stack, other: Stack, path: str, here: tuple[Any, ...], there: tuple[Any, ...], *, membership: bool
) -> Iterator[Difference]:
    """Parts in one list: those that are in one state alone, another order, and what differs in those in both.

    Args:
        membership: whether those in one state alone are told; where the split is another, that has been told.
    """
    mine, theirs = {part.id: part for part in here}, {part.id: part for part in there}
    owner = _owner(now, path)
    if membership:
        ordered = _in_the_order_of(here, there)
        if ordered != here:
            edit = SetValue(path=path, value=_plain(ordered))
            yield Difference(owner, f"{_capital(place_name(now, path))}: in another order", edit)
        before = ""
        for part in there:
            address = joined(path, part.id)
            if part.id not in mine:
                added = AddPart(path=path, part=part.model_dump(mode="json"), after=before)
                first = TakeOver(values={path: _plain((part, *ordered))}, what=place_name(other, address)[:80])
                told = f"{_capital(place_name(other, address))}: there, not now"
                yield Difference(owner, told, added if before or not ordered else first)
                ordered = (part, *ordered) if not before else ordered
            before = address
        for part in here:
            if part.id not in theirs:
                address = joined(path, part.id)
                yield Difference(
                    owner, f"{_capital(place_name(now, address))}: now, not there", RemovePart(path=address)
                )
    for part in here:
        again = theirs.get(part.id)
        if again is None or again == part:
            continue
        address = joined(path, part.id)
        if type(again) is not type(part):
            told = f"{_capital(place_name(now, address))}: of another kind"
            yield Difference(_owner(now, address), told, SetValue(path=address, value=_plain(again)))
            continue
        for field in type(part).model_fields:
            yield from _of_field(now, other, address, field, getattr(part, field), getattr(again, field))


def _in_the_order_of(here: tuple[Any, ...], there: tuple[Any, ...]) -> tuple[Any, ...]:
    """The parts of now in the order that they have there; those that are not there come first."""
    order = {part.id: place for place, part in enumerate(there)}
    kept = [part.id for part in here if part.id in order]
    return (
        here if kept == sorted(kept, key=order.__getitem__) else tuple(sorted(here, key=lambda p: order.get(p.id, -1)))
    )


def _said(now: Stack, other: Stack, path: str, here: Any, there: Any) -> str:
    """'Level of mid: −6 dB, now −3 dB'."""
    name = _capital(place_name(now, path))
    then = value_text(parameter_at(other, path), there)
    present = value_text(parameter_at(now, path), here)
    if then and present:
        return f"{name}: {then}, now {present}"
    kinds = [getattr(type(each), "label", "") for each in (there, here)]
    return f"{name}: {kinds[0]}, now {kinds[1]}" if all(kinds) and kinds[0] != kinds[1] else f"{name}: otherwise"


def _owner(stack: Stack, path: str) -> str:
    owner = owner_of(path)
    return owner if isinstance(find(stack, owner), BaseModel) else ""


def _plain(value: Any) -> Any:
    """A value as it stands in JSON."""
    if isinstance(value, BaseModel):
        return value.model_dump(mode="json")
    if isinstance(value, tuple):
        return [_plain(each) for each in value]
    return {key: _plain(each) for key, each in value.items()} if isinstance(value, dict) else value


def _capital(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}"
