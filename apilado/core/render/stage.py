"""A stage: a pure function of parameters and other stages' results, named by a hash of all of them."""

from __future__ import annotations

import hashlib
import typing
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, partial
from typing import Any

from pydantic import BaseModel

from apilado import __version__
from apilado.core.parts import Part

Result = Any
"""What a stage computes: an array, or a small value holding arrays, never changed afterwards."""


@dataclass(frozen=True, eq=False)
class Stage:
    """One step of a render. Equal keys mean equal results."""

    key: bytes
    function: Callable[..., Result]
    inputs: tuple[Stage, ...]

    @property
    def name(self) -> str:
        """The name of its function."""
        function = self.function
        return str(getattr(function, "func", function).__name__)


@cache
def ids_in(model: type[BaseModel]) -> Any:
    """What to leave out of a model's dump so that no part's id is in it: a name is nothing that is heard."""
    found: dict[str, Any] = {"id": True} if issubclass(model, Part) else {}
    for name, field in model.model_fields.items():
        members = [each for each in typing.get_args(field.annotation) if isinstance(each, type)]
        inner = [ids_in(each) for each in members if issubclass(each, BaseModel)]
        if inner and inner[0]:
            found[name] = {"__all__": inner[0]}
    return found


def canonical(value: Any) -> str:
    """A text that is equal exactly for equal parameters.

    Raises:
        TypeError: a value of a kind that has no canonical text here.
    """
    if isinstance(value, BaseModel):
        return f"{type(value).__qualname__}{value.model_dump_json(exclude=ids_in(type(value)))}"
    if isinstance(value, tuple):
        return "(" + ",".join(canonical(item) for item in value) + ")"
    if value is None or isinstance(value, bool | int | float | str):
        return repr(value)
    if hasattr(value, "__dataclass_fields__"):
        fields = ",".join(f"{f}={canonical(getattr(value, f))}" for f in value.__dataclass_fields__)
        return f"{type(value).__qualname__}({fields})"
    raise TypeError(f"a stage takes models, dataclasses, tuples and plain values, not {type(value).__name__}")


def stage(
    function: Callable[..., Result], *inputs: Stage, context: dict[str, Any] | None = None, **parameters: Any
) -> Stage:
    """The stage that calls `function(*results of inputs, **parameters, **context)`.

    Parameters are part of the key, `context` is not: it is for what cannot change the result, such as the loader
    of assets that are named by their content.
    """
    digest = hashlib.blake2b(digest_size=16)
    digest.update(f"{__version__}:{function.__module__}.{function.__qualname__}".encode())
    for name in sorted(parameters):
        digest.update(f"|{name}={canonical(parameters[name])}".encode())
    for source in inputs:
        digest.update(source.key)
    return Stage(digest.digest(), partial(function, **parameters, **(context or {})), inputs)
