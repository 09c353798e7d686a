"""One declaration per parameter: default, range, unit, label.

A field made by `number`, `integer`, `choice` or `switch` carries everything that is ever asked about it. The
model validates from it, the JSON Schema publishes it, the sheet builds its form control from it and the tests of
the corners take their corners from it (`parameters_of`).
"""

from __future__ import annotations

import typing
from dataclasses import dataclass
from typing import Any, Literal, Union

from pydantic import BaseModel, ConfigDict, Field
from pydantic.config import JsonDict

Scale = Literal["linear", "log"]


class Model(BaseModel):
    """Base of everything in a document: immutable, and an unknown field is an error."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


@dataclass(frozen=True)
class Parameter:
    """What a form, a schema or a test needs to know about one field."""

    name: str
    kind: Literal["number", "integer", "choice", "switch", "text"]
    label: str
    default: Any
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    step: float = 0.01
    scale: Scale = "linear"
    choices: tuple[tuple[Any, str], ...] = ()
    help: str = ""


def number(
    default: float,
    *,
    low: float,
    high: float,
    label: str,
    unit: str = "",
    step: float = 0.01,
    scale: Scale = "linear",
    help: str = "",
) -> Any:
    """A float from `low` to `high`, both included, in `unit`."""
    extra: JsonDict = {"label": label, "unit": unit, "step": step, "scale": scale}
    return Field(default=default, ge=low, le=high, description=help or None, json_schema_extra=extra)


def integer(default: int, *, low: int, high: int, label: str, unit: str = "", help: str = "") -> Any:
    """A whole number from `low` to `high`, both included, in `unit`."""
    extra: JsonDict = {"label": label, "unit": unit, "step": 1, "scale": "linear", "integer": True}
    return Field(default=default, ge=low, le=high, description=help or None, json_schema_extra=extra)


def choice(default: Any, *, label: str, unit: str = "", names: dict[str, str] | None = None, help: str = "") -> Any:
    """One value of the field's Literal type, shown by its name if it has one here."""
    extra: JsonDict = {"label": label, "unit": unit, "names": dict(names or {})}
    return Field(default=default, description=help or None, json_schema_extra=extra)


def switch(default: bool, *, label: str, help: str = "") -> Any:
    """On or off."""
    return Field(default=default, description=help or None, json_schema_extra={"label": label, "switch": True})


def text(default: str, *, label: str, longest: int = 80) -> Any:
    """A line of text of 1 to `longest` characters."""
    return Field(default=default, min_length=1, max_length=longest, json_schema_extra={"label": label})


def parameters_of(model: type[BaseModel]) -> tuple[Parameter, ...]:
    """The parameters that a model declares, in the order of their fields; other fields are left out."""
    found = []
    for name, info in model.model_fields.items():
        extra = info.json_schema_extra
        if not isinstance(extra, dict) or "label" not in extra:
            continue
        given: dict[str, Any] = dict(extra)
        common: dict[str, Any] = {
            "name": name,
            "label": given["label"],
            "default": info.default,
            "unit": given.get("unit", ""),
            "help": info.description or "",
        }
        bounds = {type(m).__name__: m for m in info.metadata}
        if "Ge" in bounds:
            low, high = bounds["Ge"].ge, bounds["Le"].le
            kind: Literal["integer", "number"] = "integer" if given.get("integer") else "number"
            ranged = {"low": low, "high": high, "step": given["step"], "scale": given["scale"]}
            found.append(Parameter(kind=kind, **common, **ranged))
        elif given.get("switch"):
            found.append(Parameter(kind="switch", **common))
        elif typing.get_origin(info.annotation) is Literal:
            values = typing.get_args(info.annotation)
            found.append(
                Parameter(
                    kind="choice", **common, choices=tuple((v, given.get("names", {}).get(v, str(v))) for v in values)
                )
            )
        else:
            found.append(Parameter(kind="text", **common))
    return tuple(found)


def tagged_union(models: tuple[type[BaseModel], ...]) -> Any:
    """The Pydantic type of 'one of these', told apart by their field `kind`."""
    if len(models) == 1:
        return models[0]
    return typing.Annotated[Union[models], Field(discriminator="kind")]  # noqa: UP007
