"""TOML that people write.

Read into a pydantic shape, with the line and the key in every complaint.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from typing import Annotated, Any, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, ValidationError
from pydantic_core import ErrorDetails

from jovik.base.errors import UsageError
from jovik.base.limits import TOML_BYTES
from jovik.base.quantities import parse_size, parse_time


class StrictModel(BaseModel):
    """A table of a file: no key it does not know, no guessing of types."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True)


def from_text(convert: Callable[[str], Any]) -> BeforeValidator:
    """Return a quoted field with a unit, converted by `convert` (which raises ValueError)."""

    def read(value: Any) -> Any:
        if not isinstance(value, str):
            raise ValueError("write it in quotes, with its unit")
        return convert(value)

    return BeforeValidator(read)


Size = Annotated[int, from_text(parse_size)]
Time = Annotated[int, from_text(parse_time)]
S = TypeVar("S", bound=StrictModel)


def read_toml(text: str, where: str, shape: type[S]) -> S:
    """Return a file's text as a shape.

    Parameters
    ----------
    text : str
    where : str
        The file's name, for messages.
    shape : subclass of Shape

    Raises
    ------
    UsageError
        Not TOML, or not this shape: the line, the key and the reason.
    """
    if len(text) > TOML_BYTES:
        raise UsageError(f"{where} is longer than {TOML_BYTES:,} bytes", "is it the right file?")
    try:
        given = tomllib.loads(text)
    except (
        ValueError,
        RecursionError,
    ) as error:  # an integer of thousands of digits is no TOMLDecodeError
        raise UsageError(f"{where} is not TOML: {error}") from None
    try:
        return shape.model_validate(given)
    except ValidationError as error:
        # Of several faults the one in a value tells most, a missing key least: it may be the
        # misspelt one's absence.
        first = min(
            error.errors(), key=lambda e: {"extra_forbidden": 0, "missing": 2}.get(e["type"], 1)
        )
        key, reason = explain(first)
        raise UsageError(
            f"{where}, line {line_of(text, first['loc'])}: {reason}",
            _keys_of(shape, first["loc"]) if key else "",
        ) from None


def explain(error: ErrorDetails) -> tuple[bool, str]:
    """Return True if the fault is an unknown key, and the fault in words."""
    key = str(next((part for part in reversed(error["loc"]) if isinstance(part, str)), ""))
    if error["loc"] and isinstance(error["loc"][-1], int):
        key += f", entry {error['loc'][-1] + 1}"
    if error["type"] == "extra_forbidden":
        return True, f"'{key}' is not a key here"
    if error["type"] == "missing":
        return False, f"'{key}' is missing"
    if error["type"] == "value_error":
        return False, f"{key}: {error['ctx']['error']}"
    if error["type"] == "string_type":
        return False, f"{key} must be in quotes"
    return False, f"{key}: {error['msg'][0].lower()}{error['msg'][1:]}"


def _keys_of(shape: type[BaseModel], loc: tuple[int | str, ...]) -> str:
    """Return the keys that the table at `loc` may have."""
    for part in loc[:-1]:
        if isinstance(part, int):
            continue
        field = shape.model_fields.get(part)
        inner = (
            [
                t
                for t in _types_in(field.annotation)
                if isinstance(t, type) and issubclass(t, BaseModel)
            ]
            if field
            else []
        )
        if not inner:
            break
        shape = inner[0]
    return "there are " + ", ".join(f.alias or name for name, f in shape.model_fields.items())


def _types_in(annotation: Any) -> list[Any]:
    inside = getattr(annotation, "__args__", ())
    return [annotation, *(t for a in inside for t in _types_in(a))]


def line_of(text: str, loc: tuple[int | str, ...]) -> int:
    """Return the line of the key at a place such as ``("claim", 1, "figure")``.

    The table's line if it has none of its own.

    A part of a place may be no key at all but the name of a type; the innermost table that has a
    header of its own is looked in first.
    """
    names = [str(p) for p in loc if isinstance(p, str)]
    number = next((p for p in loc if isinstance(p, int)), 0)
    for depth in range(len(names), -1, -1):
        line = _line_in(
            text.splitlines(),
            ".".join(names[:depth]),
            names[depth] if depth < len(names) else "",
            number,
        )
        if line is not None:
            return line
    return 1


def _line_in(lines: list[str], table: str, key: str, number: int) -> int | None:
    """Return the line of a key or of its table's header, or None if neither exists."""
    headers, inside, header_at = 0, table == "", None
    for at, line in enumerate(lines, 1):
        header = re.match(r"\s*(\[{1,2})\s*([^\]\s]+)\s*\]", line)
        if header:
            inside = header[2] == table and (header[1] == "[" or headers == number)
            headers += header[2] == table
            header_at = at if inside else header_at
        elif inside and key and re.match(rf"\s*[\"']?{re.escape(key)}[\"']?\s*=", line):
            return at
    return header_at
