"""One declaration per parameter: range, unit, label, and whether it may move.

A field annotated by `number`, `integer`, `choice`, `switch` and their like, as `ratio: Annotated[Value, number(low=1.0,
high=20.0, unit=":1", label="Ratio", moves=True)] = 3.0`, carries everything that is ever asked about it; lists of parts
and groups are declared by `parts` and `group`. The model validates from it, the JSON Schema publishes it, the sheet
builds its controls from it, edits are parsed by it, and the tests of the corners take their corners from it.
"""

from __future__ import annotations

import math
import typing
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cache
from types import MappingProxyType
from typing import Any, ClassVar, Literal, Union

from pydantic import BaseModel, ConfigDict, Field
from pydantic.config import JsonDict

from apilado.core.sketch import Sketch
from apilado.core.units import HIGHEST_MIDI, midi_to_name, name_to_midi

Scale = Literal["linear", "log"]


class Model(BaseModel):
    """Base of everything in a document: immutable, and an unknown field is an error."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    leading: ClassVar[tuple[str, ...]] = ()
    """The parameters that matter first, where they are not the first that are declared."""

    def unused(self) -> tuple[str, ...]:
        """The parameters that do nothing at present."""
        return ()

    def in_words(self) -> str:
        """Its values in a few words: the first that matters, and of the next those that are not as they began."""
        names = [name for name in leading_of(type(self)) if name not in self.unused()]
        told = {p.name: p for p in parameters_of(type(self))}
        shown = names[:1] + [name for name in names[1:MOST_TOLD] if getattr(self, name) != told[name].default]
        return ", ".join(told[name].told(getattr(self, name), named=name not in names[:1]) for name in shown)

    def settable(self) -> tuple[str, ...]:
        """The names of its values that are numbers, choices or switches."""
        kinds = ("number", "integer", "choice", "switch", "numbers")
        return tuple(each.name for each in parameters_of(type(self)) if each.kind in kinds)

    def places(self) -> dict[str, str]:
        """By the ids that something in it points at, the places of what has them: what is rendered hangs on places."""
        return {}

    def sketch(self) -> Sketch | None:
        """What it does, in a drawing the size of a word; None where there is nothing to draw."""
        return None

    def unused_in(self, member: BaseModel) -> tuple[str, ...]:
        """The parameters of a member of one of its lists that do nothing where that stands."""
        return ()

    def words_of(self, member: Model) -> str:
        """A member of one of its lists in a few words."""
        return member.in_words()

    def next_part(self, listed: str) -> tuple[dict[str, Any], str]:
        """(values with which one more part of one of its lists begins, the id of that behind which it is put or '')."""
        return {}, ""


Kind = Literal["number", "integer", "choice", "switch", "text", "numbers", "map", "pitch", "reference"]
Among = Literal["drums", "layers", "sounds", "sections", "waves"]
"""Sounds are drums by what a ducker names them, and layers by their addresses; waves are those of the same source that
come later."""
Over = Literal["", "piece", "file"]


@dataclass(frozen=True)
class Parameter:
    """What a form, a schema, an edit or a test needs to know about one field."""

    name: str
    kind: Kind
    label: str
    default: Any
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    step: float = 0.01
    scale: Scale = "linear"
    choices: tuple[tuple[Any, str], ...] = ()
    help: str = ""
    first: float = 0.0
    """What a page counts from where a document counts from 0: beats from 1, as musicians do."""
    blanks: bool = False
    """Of numbers: whether one may be left out."""
    among: Among | None = None
    """Of a reference: what it is chosen from."""
    moves: bool = False
    """Whether its value may be a curve."""
    over: Over = ""
    """What its slider goes over, where a number that is typed may go further: the piece, in beats, or the audio file of
    its part, in ms or s."""

    def shown(self, value: Any) -> str:
        """A value as its field shows it."""
        if value is None:
            return ""
        if self.kind == "pitch":
            return midi_to_name(value)
        if self.kind == "numbers":
            return ", ".join("" if each is None else f"{each + self.first:.6g}" for each in value)
        if isinstance(value, bool) or not isinstance(value, int | float):
            return str(value)
        text = f"{value + self.first:.{self._digits()}f}"
        return text.rstrip("0").rstrip(".") if "." in text else text

    def told(self, value: Any, *, named: bool = False) -> str:
        """A value in a sentence, with its unit; with its name too if asked, where it has no unit to tell it by."""
        if self.kind == "switch":
            return f"{self.label.lower()} {'on' if value else 'off'}" if named else "on" if value else "off"
        if self.kind in ("number", "integer", "pitch") and isinstance(value, int | float):
            gap = "" if self.unit[:1] in TIGHT_UNITS else " "
            said = f"{self.shown(value)}{gap}{self.unit}".strip().replace("-", "−")
            name = self.label if self.label.isupper() else self.label.lower()
            return f"{name} {said}" if named and not self.unit else said
        return next((label for choice, label in self.choices if choice == value), str(value)[:60])

    def parsed(self, value: Any) -> Any:
        """The value that is meant: a text is read as the field shows it, anything else as it lies in a document.

        Raises:
            ValueError: it is none, in words that follow the name of the parameter.
        """
        if self.kind in ("number", "integer"):
            return self._ranged(self._number(value), value)
        if self.kind == "switch":
            if isinstance(value, str) and value.lower() in SWITCHED:
                return SWITCHED[value.lower()]
            return self._of(bool, value, "is on or off")
        if self.kind == "choice":
            found = [each for each, _ in self.choices if each == value or str(each) == str(value)]
            if not found:
                raise ValueError(f"is one of {', '.join(str(each) for each, _ in self.choices)}, not {_said(value)}")
            return found[0]
        if self.kind == "pitch":
            return self._pitch(value)
        if self.kind == "numbers":
            return self._numbers(value)
        return self._of(str, value, "is a text")

    def held(self, value: Any) -> Any:
        """A number that a hand was let go at: held at the ends of the range, and rounded as its field shows it."""
        if self.kind not in ("number", "integer") or isinstance(value, bool) or not isinstance(value, int | float):
            return value
        if not math.isfinite(value):
            return value
        within = min(max(float(value), self.low), self.high)
        step = self.step
        if self.scale == "log" and within > 0.0:
            # Near the bottom of a long range a step is more than a hand can feel: finer ones are kept there.
            step = min(step, 10.0 ** (math.floor(math.log10(within)) - FINE_DIGITS))
        return min(max(round(round(within / step) * step, 6), self.low), self.high)

    def share(self, value: float) -> float:
        """Where a value lies in the range, 0 to 1, as its slider shows it."""
        if self.scale == "log":
            found = math.log(max(value, self.low) / self.low) / math.log(self.high / self.low)
        else:
            found = (value - self.low) / (self.high - self.low)
        return min(max(found, 0.0), 1.0)

    def each(self) -> Parameter:
        """Of several numbers: what one of them is."""
        return replace(self, kind="number", default=self.default if self.kind == "map" else 0.0)

    def _digits(self) -> int:
        """How many digits after the point its field shows."""
        return len(f"{self.step:.4f}".rstrip("0").split(".")[1]) if self.kind == "number" else 2

    def _number(self, value: Any) -> float:
        try:
            typed = value.replace("−", "-").replace(",", ".") if isinstance(value, str) else value
            number = math.nan if isinstance(value, bool | None) else float(typed)
        except (TypeError, ValueError, OverflowError):
            number = math.nan
        if not math.isfinite(number):
            raise ValueError(f"takes a number, not {_said(value)}")
        return number - self.first if isinstance(value, str) else number

    def _ranged(self, number: float, value: Any) -> float | int:
        if isinstance(value, str):  # an end of the range as the field shows it, with fewer digits than it has
            shown = 0.5 * 10.0 ** -self._digits() + 1e-12
            number = next((float(end) for end in (self.low, self.high) if abs(number - end) <= shown), number)
        if not self.low <= number <= self.high:
            low, high, given = (f"{each + self.first:.6g}".replace("-", "−") for each in (self.low, self.high, number))
            raise ValueError(f"runs from {low} to {f'{high} {self.unit}'.rstrip()}; {given} was not taken")
        if self.kind == "number":
            return number
        if not number.is_integer():
            raise ValueError(f"takes a whole number, not {_said(value)}")
        return int(number)

    def _numbers(self, value: Any) -> list[float | int | None]:
        parts = [part.strip() for part in value.split(",")] if isinstance(value, str) else value
        if not isinstance(parts, list | tuple):
            raise ValueError(f"takes numbers with commas between them, not {_said(value)}")
        if parts in ([""], ()):
            return []
        one = self.each()
        found: list[float | int | None] = []
        for part in parts:
            if part in ("", None) and self.blanks:
                found.append(None)
            elif part in ("", None):
                raise ValueError(f"takes numbers with commas between them, not {_said(value)}")
            else:
                number = one.parsed(part)
                found.append(int(number) if self.step == 1 and float(number).is_integer() else number)
        return found

    def _pitch(self, value: Any) -> int:
        if isinstance(value, str):
            try:
                return name_to_midi(value)
            except ValueError as error:
                raise ValueError(f"is not taken: {error}") from None
        return int(self._ranged(self._number(value), value))

    @staticmethod
    def _of(kind: type, value: Any, wanted: str) -> Any:
        if not isinstance(value, kind):
            raise ValueError(f"{wanted}, not {_said(value)}")
        return value


FINE_DIGITS = 2
MOST_TOLD, MOST_LEADING = 4, 5
TIGHT_UNITS = (":", "°", "×")
"""Units that stand right behind their number."""
SWITCHED = MappingProxyType({"true": True, "on": True, "false": False, "off": False})


def _said(value: Any) -> str:
    return f"'{str(value)[:40]}'"


def number(
    *,
    low: float,
    high: float,
    label: str,
    unit: str = "",
    step: float = 0.01,
    scale: Scale = "linear",
    first: float = 0.0,
    help: str = "",
    moves: bool = False,
    over: Over = "",
) -> Any:
    """A float from `low` to `high`, both included, in `unit`; pages count it from `first`. One that `moves` may follow
    a curve; `over` says what its slider goes over, if that is less."""
    extra: JsonDict = {"label": label, "unit": unit, "step": step, "scale": scale, "first": first, "moves": moves}
    if over:
        extra["over"] = over
    return Field(ge=low, le=high, description=help or None, json_schema_extra=extra)


def send_number(help: str) -> Any:
    """Declares how much of a sound is sent to the space."""
    return number(
        low=0.0, high=1.0, label="Send", help=f"To the space; 1: as loud as it is. {help}".strip(), moves=True
    )


def integer(*, low: int, high: int, label: str, unit: str = "", help: str = "") -> Any:
    """A whole number from `low` to `high`, both included, in `unit`."""
    extra: JsonDict = {"label": label, "unit": unit, "step": 1, "scale": "linear", "integer": True}
    return Field(ge=low, le=high, description=help or None, json_schema_extra=extra)


def choice(*, label: str, unit: str = "", names: dict[str, str] | None = None, help: str = "") -> Any:
    """One value of the field's Literal type, shown by its name if it has one here."""
    extra: JsonDict = {"label": label, "unit": unit, "names": dict(names or {})}
    return Field(description=help or None, json_schema_extra=extra)


def switch(*, label: str, help: str = "") -> Any:
    """On or off."""
    return Field(description=help or None, json_schema_extra={"label": label, "switch": True})


def text(*, label: str, longest: int = 80) -> Any:
    """A line of text of 1 to `longest` characters."""
    return Field(min_length=1, max_length=longest, json_schema_extra={"label": label})


def note_pitch(*, label: str) -> Any:
    """A MIDI pitch, written as the name of a note."""
    extra: JsonDict = {"label": label, "unit": "", "step": 1, "scale": "linear", "kind": "pitch"}
    return Field(ge=0, le=HIGHEST_MIDI, json_schema_extra=extra)


def numbers(
    *,
    low: float,
    high: float,
    most: int,
    label: str,
    step: float = 0.01,
    first: float = 0.0,
    blanks: bool = False,
    help: str = "",
) -> Any:
    """Up to `most` numbers from `low` to `high`, written with commas between them; none by default."""
    extra: JsonDict = {"label": label, "step": step, "first": first, "kind": "numbers"}
    extra.update(low=low, high=high, blanks=blanks)
    return Field(max_length=most, description=help or None, json_schema_extra=extra)


def number_map(
    *, low: float, high: float, default: float, most: int, label: str, moves: bool = False, help: str = ""
) -> Any:
    """Up to `most` numbers from `low` to `high`, by the id of what they belong to; `default` for what is not named."""
    extra: JsonDict = {"label": label, "kind": "map", "low": low, "high": high, "default": default, "moves": moves}
    return Field(max_length=most, description=help or None, json_schema_extra=extra)


def reference(*, among: Among, label: str) -> Any:
    """The id of a drum, of another layer, of either, or of a section, chosen from those that are there."""
    extra: JsonDict = {"label": label, "kind": "reference", "among": among}
    return Field(max_length=60, json_schema_extra=extra)


def group(begin: Callable[[], Any], *, label: str) -> Any:
    """Parameters that belong together: a model within a model."""
    return Field(default_factory=begin, json_schema_extra={"group": label})


def optional(begin: Callable[[], Any], *, label: str, otherwise: str) -> Any:
    """A model within a model that may be there or not; in words what holds where it is not."""
    made: JsonDict = begin().model_dump(mode="json")
    extra: JsonDict = {"optional": label, "otherwise": otherwise, "begins": made}
    return Field(default=None, json_schema_extra=extra)


def parts(
    noun: str, *, least: int = 0, most: int, begin: Callable[[], tuple[Any, ...]] = tuple, ordered: bool = False
) -> Any:
    """A list of `least` to `most` parts, each called by the noun; `ordered` where their order is heard."""
    extra: JsonDict = {"noun": noun, "ordered": ordered}
    return Field(default_factory=begin, min_length=least, max_length=most, json_schema_extra=extra)


@dataclass(frozen=True)
class PartList:
    """What is declared of a list of parts."""

    name: str
    noun: str
    least: int
    most: int
    ordered: bool
    kinds: tuple[type[BaseModel], ...]
    """The models of what can stand in it."""


@cache
def parameters_by_name(model: type[BaseModel]) -> dict[str, Parameter]:
    """The parameters that a model declares, by the names of their fields."""
    return {parameter.name: parameter for parameter in parameters_of(model)}


@cache
def part_lists_of(model: type[BaseModel]) -> tuple[PartList, ...]:
    """The lists of parts that a model declares."""
    found = []
    for name, info in model.model_fields.items():
        extra = info.json_schema_extra
        if not isinstance(extra, dict) or "noun" not in extra:
            continue
        bounds = {type(m).__name__: m for m in info.metadata}
        least = bounds["MinLen"].min_length if "MinLen" in bounds else 0
        kinds = tuple(models_in(info.annotation))
        most, ordered = bounds["MaxLen"].max_length, bool(extra["ordered"])
        found.append(PartList(name, str(extra["noun"]), least, most, ordered, kinds))
    return tuple(found)


@cache
def groups_of(model: type[BaseModel]) -> tuple[tuple[str, str], ...]:
    """(name, label) of the groups that a model declares."""
    extras = [(name, info.json_schema_extra) for name, info in model.model_fields.items()]
    return tuple((name, str(extra["group"])) for name, extra in extras if isinstance(extra, dict) and "group" in extra)


@cache
def optionals_of(model: type[BaseModel]) -> tuple[tuple[str, str, str, JsonDict], ...]:
    """(name, label, what holds without it, as it begins) of the models that may be there or not."""
    found = []
    for name, info in model.model_fields.items():
        extra = info.json_schema_extra
        if isinstance(extra, dict) and isinstance(begins := extra.get("begins"), dict):
            found.append((name, str(extra["optional"]), str(extra["otherwise"]), begins))
    return tuple(found)


def models_in(annotation: Any) -> Iterator[type[BaseModel]]:
    """The models that a type is made of: itself, the members of a union, what a list holds."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        yield annotation
    for inner in typing.get_args(annotation):
        yield from models_in(inner)


@cache
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
        if given.get("kind") == "numbers":
            listed = {name: given[name] for name in ("low", "high", "step", "first", "blanks")}
            found.append(Parameter(kind="numbers", **common, **listed))
            continue
        if given.get("kind") == "map":
            named = {name: given[name] for name in ("low", "high", "moves")}
            found.append(Parameter(kind="map", **{**common, "default": given["default"]}, **named))
            continue
        if given.get("kind") == "reference":
            found.append(Parameter(kind="reference", **common, among=given["among"]))
            continue
        bounds = {type(m).__name__: m for m in info.metadata}
        if "Ge" in bounds:
            low, high = bounds["Ge"].ge, bounds["Le"].le
            kind: Kind = given.get("kind") or ("integer" if given.get("integer") else "number")
            ranged = {"low": low, "high": high, "step": given["step"], "scale": given["scale"]}
            ranged.update({name: given[name] for name in ("first", "moves", "over") if name in given})
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


@cache
def leading_of(model: type[Model]) -> tuple[str, ...]:
    """The parameters of a model that matter first: those it says, else the first that it declares."""
    declared = [p.name for p in parameters_of(model) if p.kind in ("number", "integer", "choice", "pitch", "reference")]
    return tuple(name for name in model.leading if name in declared) or tuple(declared[:MOST_LEADING])


def tagged_union(models: tuple[type[BaseModel], ...]) -> Any:
    """The Pydantic type of 'one of these', told apart by their field `kind`."""
    if len(models) == 1:
        return models[0]
    return typing.Annotated[Union[models], Field(discriminator="kind")]  # noqa: UP007
