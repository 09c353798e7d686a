"""A stage: a pure function of parameters and other stages' results, named by a hash of all of them."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, cached_property, partial
from itertools import count
from typing import Any

from pydantic import BaseModel

from apilado.core.clock import Clock
from apilado.core.document.addresses import joined as address
from apilado.core.document.addresses import parts_of
from apilado.core.identity import ByIdentity
from apilado.core.parameters import Model, models_in
from apilado.core.parts import Part

Result = Any
"""What a stage computes: an array, or a small value holding arrays, never changed afterwards."""


@dataclass(frozen=True)
class Memory:
    """What around a moment a stage needs to know to be right there: how much before it, and how much behind."""

    rings_s: float = 0.0
    """Seconds before, in which what it was given may still be heard as loud as ever."""
    fades_s: float = 0.0
    """Seconds before, in which what it was given dies away as an exponential does."""
    levels_s: float = 0.0
    """Seconds before, in which it still follows a level that it was given."""
    ahead_s: float = 0.0
    """Seconds behind, into which it looks."""


NONE = Memory()


@dataclass(frozen=True, eq=False)
class Stage:
    """One step of a render. Equal keys mean equal results."""

    key: bytes
    function: Callable[..., Result]
    inputs: tuple[Stage, ...]
    parameters: Mapping[str, Any]
    context: Mapping[str, Any]
    """What it is told besides, which cannot change its result."""
    kept: bool = True
    """Whether its result is worth keeping; what is only on the way to another one is made again where it is wanted."""
    remembers: Callable[[], Memory] | None = None
    """Reckons what it needs to know around a moment; None: that moment alone."""
    lasting: bool = False
    """Whether it is what later edits go on from: it stays longest where room is short."""
    where: str = ""
    """The address of the part whose gain reduction it goes by, if it does."""
    each_channel: bool = False
    """Whether it makes each channel of its result of that channel of its first input, whatever the other is."""

    @property
    def name(self) -> str:
        """The name of its function."""
        return str(self.function.__name__)

    @cached_property
    def memory(self) -> Memory:
        """What it needs to know around a moment."""
        return NONE if self.remembers is None else self.remembers()

    def result(self, *inputs: Result) -> Result:
        """What it makes of the results of its inputs."""
        return self.function(*inputs, **self.parameters, **self.context)


@cache
def holds_parts(model: type[BaseModel]) -> bool:
    """Whether a part with an id can be in a model, or is one."""
    inner = (each for field in model.model_fields.values() for each in models_in(field.annotation))
    return issubclass(model, Part) or any(holds_parts(each) for each in inner)


POINTER = re.compile(r'("(?:wave|place)":")([a-z0-9/_-]*)"')
"""How the id of another part stands in JSON, or its place."""
ID = re.compile(r'"id":"[a-z0-9-]*",?')
"""How an id stands in JSON. In a text it cannot stand so: its quotation marks would be escaped there."""


PLAIN = (float, int, str, bool, type(None))


def canonical(value: Any) -> str:
    """A text that is equal exactly for equal parameters.

    Raises:
        TypeError: a value of a kind that has no canonical text here.
    """
    told = _teller(value.__class__)
    if told is repr:
        return repr(value)
    if told is _listed and len(value) < LONG:
        return _listed(value)
    return _TEXTS.get(partial(_digest if told is _listed else told, value), value)


@cache
def _teller(kind: type) -> Callable[[Any], str]:
    """What makes the text of values of a kind."""
    if issubclass(kind, PLAIN):
        return repr
    if issubclass(kind, BaseModel):
        return _told
    if issubclass(kind, tuple):
        return _listed
    if hasattr(kind, "__dataclass_fields__"):
        return _fielded
    raise TypeError(f"a stage takes models, dataclasses, tuples and plain values, not {kind.__name__}")


def _placed(pointer: str, places: Mapping[str, str]) -> str:
    """An id as the place of what has it, nothing where nothing has; an address with places for the ids in it."""
    names = parts_of(pointer)
    return places.get(pointer, "") if len(names) < 2 else address(*[places.get(name, name) for name in names])


def joined(
    made: Sequence[Stage],
    plan: tuple[tuple[int, int], ...],
    clock: Clock,
    join: Callable[..., Result],
    **parameters: Any,
) -> Stage:
    """The stage of several forms of one result, each where it holds; where they are all the same, that one.

    Args:
        plan: (frame, number of the form) from where on it holds.
        join: takes the forms that differ, their `plan` and `clock`, and the parameters.
    """
    distinct = list({each.key: each for each in made}.values())
    if len(distinct) == 1:
        return made[0]
    keys = [each.key for each in distinct]
    numbers = [(frame, keys.index(made[number].key)) for frame, number in plan]
    merged = tuple(each for place, each in enumerate(numbers) if place == 0 or each[1] != numbers[place - 1][1])
    if len(merged) == 1:
        return distinct[merged[0][1]]
    return stage(join, *distinct, plan=merged, clock=clock, **parameters)


LONG = 24
_TEXTS = ByIdentity(4096)
"""Of parts, which stay the same objects as long as no edit changes them, of clocks, and of long tuples, such as the
notes that several layers play."""


def _told(part: BaseModel) -> str:
    told = part.model_dump_json()
    # Ids are names, and nothing of them is heard.
    places = part.places() if isinstance(part, Model) else {}
    if places:
        told = POINTER.sub(lambda found: f'{found[1]}{_placed(found[2], places)}"', told)
    return f"{type(part).__qualname__}{ID.sub('', told) if holds_parts(type(part)) else told}"


def _fielded(value: Any) -> str:
    fields = ",".join(f"{f}={canonical(getattr(value, f))}" for f in value.__dataclass_fields__)
    return f"{type(value).__qualname__}({fields})"


def _listed(value: tuple[Any, ...]) -> str:
    return "(" + ",".join(canonical(item) for item in value) + ")"


def _digest(value: tuple[Any, ...]) -> str:
    return f"#{hashlib.blake2b(_listed(value).encode(), digest_size=16).hexdigest()}"


@cache
def _called(function: Callable[..., Result]) -> str:
    return f"{function.__module__}.{function.__qualname__}"


def stage(
    function: Callable[..., Result],
    *inputs: Stage,
    context: dict[str, Any] | None = None,
    kept: bool = True,
    remembers: Callable[[], Memory] | None = None,
    where: str = "",
    each_channel: bool = False,
    **parameters: Any,
) -> Stage:
    """The stage that calls `function(*results of inputs, **parameters, **context)`.

    Parameters are part of the key, `context` is not: it is for what cannot change the result, such as the loader
    of assets that are named by their content.
    """
    given = [f"{name}={canonical(parameters[name])}" for name in sorted(parameters)]
    told = "|".join([_called(function), *given]).encode()
    key = hashlib.blake2b(b"".join([told, *[source.key for source in inputs]]), digest_size=16).digest()
    named: dict[str, Any] = {"where": where, "each_channel": each_channel}
    return Stage(key, function, inputs, parameters, context or {}, kept, remembers, **named)


_PASSING = count(1)


def passing(
    function: Callable[..., Result],
    *inputs: Stage,
    context: Mapping[str, Any] | None = None,
    each_channel: bool = False,
    **parameters: Any,
) -> Stage:
    """A stage of one render alone, that nobody asks for again: its key is a number, which is sooner made than one that
    tells what it is of."""
    key = b"passing" + next(_PASSING).to_bytes(9, "big")
    return Stage(key, function, inputs, parameters, context or {}, kept=False, each_channel=each_channel)
