"""JSON in the columns of a shelf."""

from __future__ import annotations

import json
from typing import Any

from jovik.base.limits import JSON_MEMORY_BYTES, json_memory


class Undecodable:
    """The value in a row for text that is not JSON."""


def decode_json(text: str | bytes) -> Any:
    """Return JSON from a row, or `Undecodable` if it is invalid, so that other rows can be read."""
    try:
        # A column of SQLite may hold a number, which its caller knows how to take.
        if isinstance(text, str | bytes) and json_memory(text) > JSON_MEMORY_BYTES:
            return Undecodable()
        return json.loads(text)
    except (ValueError, RecursionError):
        return Undecodable()
