"""From JSON to a stack and back, with errors that name the place and the fault."""

from __future__ import annotations

import json
from typing import Any

from pydantic import ValidationError

from apilado.core.document.cast import Cast
from apilado.core.document.migrations import MIGRATIONS
from apilado.core.document.stack import FORMAT, VERSION, Stack
from apilado.errors import FutureVersion, InvalidDocument

MOST_FAULTS_TOLD = 3


def explain(error: ValidationError) -> str:
    """The faults of a document as one line, each with its path."""
    told = []
    for fault in error.errors()[:MOST_FAULTS_TOLD]:
        # The tag that tells kinds apart is in Pydantic's path but not in the document.
        path = "/".join(str(part) for part in fault["loc"])
        message = fault["msg"].removeprefix("Value error, ")
        if fault["type"] == "extra_forbidden":
            message = "this field is unknown"
        elif fault["type"] in ("float_parsing", "int_parsing", "bool_parsing", "float_type", "int_type"):
            message = f"{message}, not {fault['input']!r}"[:200]
        elif fault["type"] in ("greater_than_equal", "less_than_equal"):
            message = f"{message}, not {fault['input']}"
        told.append(f"{path}: {message}" if path else message)
    more = error.error_count() - len(told)
    return "; ".join(told) + (f"; and {more} more" if more > 0 else "")


def is_text(data: Any) -> bool:
    """Whether all texts in parsed JSON can be written: half of a surrogate pair cannot."""
    try:
        json.dumps(data, ensure_ascii=False, default=str).encode()
    except (UnicodeEncodeError, RecursionError, ValueError):
        return False
    return True


def stack_from_data(data: Any) -> Stack:
    """A stack from parsed JSON.

    Raises:
        FutureVersion: it was written by a newer Apilado.
        InvalidDocument: it is no stack, or something in it is out of range, unknown or inconsistent.
    """
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise InvalidDocument(f"this is not a stack: its field 'format' should be '{FORMAT}'")
    if not is_text(data):
        raise InvalidDocument("the stack is not valid: it holds text that is no Unicode")
    version = data.get("version")
    if isinstance(version, int) and not isinstance(version, bool) and version > VERSION:
        raise FutureVersion(f"this stack has version {version}; this Apilado reads up to version {VERSION}")
    while isinstance(version, int) and version in MIGRATIONS:
        data = MIGRATIONS[version](data)
        version = data["version"]
    try:
        return Stack.model_validate(data)
    except ValidationError as error:
        raise InvalidDocument(f"the stack is not valid: {explain(error)}") from None


def stack_from_json(text: str | bytes) -> Stack:
    """A stack from JSON text; see `stack_from_data`."""
    return stack_from_data(_parsed(text))


def cast_from_json(text: str | bytes, file_name: str) -> Cast:
    """A cast from JSON text.

    Raises:
        FutureVersion: it was written by a newer Apilado.
        InvalidDocument: it is no cast, or its stack is not valid.
    """
    data = _parsed(text)
    if not isinstance(data, dict) or not is_text(data):
        raise InvalidDocument(f"'{file_name}' is not a cast")
    try:
        return Cast.model_validate({**data, "stack": stack_from_data(data.get("stack"))})
    except ValidationError as error:
        raise InvalidDocument(f"'{file_name}' is not a cast: {explain(error)}") from None


def cast_to_json(cast: Cast) -> str:
    """A cast as JSON that people can read."""
    return json.dumps(cast.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"


def _parsed(text: str | bytes) -> Any:
    """JSON text as plain values."""

    def refuse(constant: str) -> None:
        raise InvalidDocument(f"the stack is not valid: {constant} is not a number that JSON has")

    try:
        return json.loads(text, parse_constant=refuse)
    except RecursionError:
        raise InvalidDocument("the stack is not valid: its JSON is nested too deeply") from None
    except ValueError as error:
        raise InvalidDocument(f"this is not JSON: {error}") from None


def stack_to_json(stack: Stack) -> str:
    """The stack as JSON that people can read."""
    return json.dumps(stack.model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"


def stack_to_compact_json(stack: Stack) -> str:
    """The stack as JSON in one line, for the store."""
    return stack.model_dump_json()


def schema() -> dict[str, Any]:
    """The JSON Schema of a stack, with units, labels and ranges."""
    described = Stack.model_json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **described, "title": "Apilado stack"}
