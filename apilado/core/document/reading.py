"""From JSON to a stack and back, with errors that name the place and the fault."""

from __future__ import annotations

import json
import reprlib
from collections.abc import Sequence
from types import MappingProxyType
from typing import Any

from pydantic import ValidationError

from apilado.core.document.cast import Cast
from apilado.core.document.migrations import MIGRATIONS
from apilado.core.document.stack import FORMAT, VERSION, Stack
from apilado.errors import FutureVersion, InvalidDocument

MOST_FAULTS_TOLD = 3


IN_WORDS = MappingProxyType(
    {
        "extra_forbidden": "this field is unknown",
        "missing": "it is missing",
        "greater_than_equal": "at least {ge}, not {given}",
        "less_than_equal": "at most {le}, not {given}",
        "greater_than": "more than {gt}, not {given}",
        "less_than": "less than {lt}, not {given}",
        "finite_number": "a finite number, not {given}",
        "literal_error": "one of {expected}, not {given}",
        "union_tag_invalid": "'{tag}' is unknown; there are {expected_tags}",
        "union_tag_not_found": "it does not say of what kind it is ({discriminator})",
        "string_too_short": "at least {min_length} characters, not {given}",
        "string_too_long": "at most {max_length} characters",
        "too_short": "at least {min_length} of them, not {actual_length}",
        "too_long": "at most {max_length} of them, not {actual_length}",
        "string_pattern_mismatch": "{given} does not have the form {pattern}",
        **dict.fromkeys(("int_parsing", "int_type", "int_from_float"), "a whole number, not {given}"),
        **dict.fromkeys(("float_parsing", "float_type"), "a number, not {given}"),
        **dict.fromkeys(("bool_parsing", "bool_type"), "true or false, not {given}"),
        "string_type": "a text, not {given}",
        **dict.fromkeys(("list_type", "tuple_type"), "a list, not {given}"),
        **dict.fromkeys(
            ("dict_type", "model_type", "model_attributes_type"), "an object with named fields, not {given}"
        ),
    }
)
"""What is said of a fault, by Pydantic's name for it; of others, what Pydantic says."""
GIVEN = reprlib.Repr()
"""Shows little of what was given, however much that is, or however deep."""
GIVEN.maxstring = GIVEN.maxother = 60


def explain(error: ValidationError, *, without: int = 0) -> str:
    """The faults of a document as one line, each with its path.

    Args:
        without: so many names at the beginning of each path are none of the document.
    """
    return explained(error.errors(), without=without)


def explained(faults: Sequence[Any], *, without: int = 0) -> str:
    """Faults as Pydantic tells them, in a line; as `explain`."""
    told = []
    for fault in faults[:MOST_FAULTS_TOLD]:
        # The tag that tells kinds apart is in Pydantic's path but not in the document.
        path = "/".join(str(part) for part in fault["loc"][without:])
        given = GIVEN.repr(fault.get("input"))
        said = IN_WORDS.get(fault["type"])
        message = said.format(**{**fault.get("ctx", {}), "given": given}) if said else fault["msg"]
        message = message.removeprefix("Value error, ")
        told.append(f"{path}: {message}" if path else message)
    more = len(faults) - len(told)
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
