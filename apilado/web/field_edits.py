"""From a control of the sheet to an edit: the value comes as the page has it, a number, a truth value or a text."""

from __future__ import annotations

import math
from typing import Any

from apilado.core.document.addresses import get, parted, parts_of
from apilado.core.document.editing import Edit
from apilado.core.document.edits import edit_from_data
from apilado.core.document.edits_borders import MoveCrossover
from apilado.core.document.edits_layers import SetSource
from apilado.core.document.edits_pattern import ReplaceHit, ReplaceNote, SetBars
from apilado.core.document.edits_values import SetValue
from apilado.core.document.reading import is_text
from apilado.core.document.stack import MOST_BARS, Stack
from apilado.core.notes import Note
from apilado.core.units import name_to_midi
from apilado.errors import InvalidEdit
from apilado.web.items import FIRST_BEAT, hit_of, note_of

LARGEST_WHOLE = 10_000


def field_edit(stack: Stack, path: str, value: Any) -> Edit:
    """The edit that a control asks for.

    Args:
        path: as the sheet gave it: a path in the document, `…/source!kind`, `note:…/name` or `hit:…/beat`.

    Raises:
        InvalidEdit: the value is not of the control's kind, or what it belongs to has gone.
    """
    if not is_text([path, value]):
        raise InvalidEdit("this value is not valid: it holds text that is no Unicode")
    head, last = parted(path)
    if path.startswith("note:"):
        return _note_edit(stack, head, last, value)
    if path.startswith("hit:"):
        was = hit_of(stack, head)
        if was is None:
            raise InvalidEdit("this hit is not there any more")
        return ReplaceHit(trigger=was[0], was=was[1], now=_beats(value))
    if last == "source!kind":
        return _source_edit(stack, parted(head)[1], str(value))
    if last == "shape!kind":
        return SetValue(path=path.removesuffix("!kind"), value={"kind": str(value)})
    if last.endswith("!pair"):
        return _pair_edit(stack, path.removesuffix("!pair"), str(value))
    if last.endswith("!copy"):
        return edit_from_data({"op": "copy-point", "path": path.removesuffix("!copy"), "to": str(value)})
    if head.endswith("/amounts"):
        share = {"ducker": parts_of(head)[1], "layer": last, "amount": _number(value, "share")}
        return edit_from_data({"op": "share", **share})
    if last == "silent_bars":
        return SetValue(path=path, value=_listed(str(value), blanks=False))
    if last == "span":
        first, _, end = str(value).partition(",")
        return SetValue(path=path, value={"first": _whole(first, "band"), "last": _whole(end, "band")})
    if last == "harmonics":
        return SetValue(path=path, value=_listed(str(value), blanks=True))
    if last == "hits":
        return SetValue(path=path, value=[_beats(beat) for beat in _listed(str(value), blanks=False)])
    if path == "bars" and 1 <= _number(value, "bars") <= MOST_BARS:
        return SetBars(bars=_whole(value, "bars"))
    if head.startswith("crossovers/") and last == "frequency_hz":
        return MoveCrossover(crossover=parts_of(head)[1], frequency_hz=_number(value, "frequency"))
    return SetValue(path=path, value=_like(get(stack, path), value))


def _pair_edit(stack: Stack, dip: str, lift: str) -> Edit:
    """A carve pair between two parts, to be pulled where it is wanted."""
    return edit_from_data({"op": "add", "path": "pairs", "part": {"dip": dip, "lift": lift}})


def _number(value: Any, what: str) -> float:
    try:
        number = float(value)
    except (TypeError, ValueError, OverflowError):
        number = math.nan
    if not math.isfinite(number):
        raise InvalidEdit(f"'{str(value)[:40]}' is not a number: {what}")
    return number


def _beats(counted: Any) -> float:
    """How many beats have gone by at a beat that a page counts from 1."""
    beat = _number(counted, "beat")
    if beat < FIRST_BEAT:
        raise InvalidEdit(f"beats are counted from 1; {beat:g} was not taken")
    return beat - FIRST_BEAT


def _whole(value: Any, what: str) -> int:
    number = _number(value, what)
    if not 0 <= number < LARGEST_WHOLE or not number.is_integer():
        raise InvalidEdit(f"'{str(value)[:40]}' is not a whole number from 0 up: {what}")
    return int(number)


def _listed(text: str, *, blanks: bool) -> list[float | None]:
    parts = [part.strip() for part in text.split(",")] if text.strip() else []
    if not blanks and "" in parts:
        raise InvalidEdit(f"'{text}' is not a list of numbers with commas between them")
    return [None if part == "" else _number(part, "list") for part in parts]


def _like(present: Any, value: Any) -> Any:
    """The value in the type of what is there now: a select gives '24' for 24."""
    if isinstance(present, bool):
        return value in (True, "true", "on", 1)
    if isinstance(present, int | float) and isinstance(value, str):
        value = _number(value, "value")
    if isinstance(present, int) and isinstance(value, float) and value.is_integer():
        return int(value)
    return value


def _note_edit(stack: Stack, key: str, name: str, value: Any) -> Edit:
    was = note_of(stack, key)
    if was is None:
        raise InvalidEdit("this note is not there any more")
    if name == "start_beats":
        value = _beats(value)
    try:
        value = name_to_midi(str(value)) if name == "pitch" else value
        now = Note.model_validate({**was.model_dump(), name: _like(getattr(was, name, None), value)})
    except ValueError as error:
        raise InvalidEdit(f"not changed: {error}") from None
    return ReplaceNote(was=was, now=now)


def _source_edit(stack: Stack, layer_id: str, kind: str) -> Edit:
    if kind == "take":
        raise InvalidEdit("a take needs its audio: press 'Use an audio file' and choose one")
    if kind != "layer":
        return SetSource(layer=layer_id, source={"kind": kind})
    for other in stack.layers:
        if other.id != layer_id and not _descends(stack, other.id, layer_id):
            return SetSource(layer=layer_id, source={"kind": "layer", "layer": other.id})
    raise InvalidEdit("there is no other layer whose sound this one could take")


def _descends(stack: Stack, layer_id: str, ancestor: str) -> bool:
    layer = stack.layer(layer_id)
    while layer is not None and layer.source.kind == "layer":
        if layer.source.layer == ancestor:
            return True
        layer = stack.layer(layer.source.layer)
    return False
