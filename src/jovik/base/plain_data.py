"""Dataclasses as plain data, for the shelf and for JSON output.

A class says where the two differ. `JSON_KEYS` maps its fields to the keys that documents use,
`JSON_DERIVED` names properties that are shown beside the fields, and `JSON_SPARSE` leaves out what
is empty.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from enum import Enum
from typing import Any


def plain(value: Any) -> Any:
    """Return the value as dicts, lists, text, numbers and None.

    An `Interval` becomes its median, low and high; an enum becomes its value.
    """
    if is_dataclass(value) and not isinstance(value, type):
        sort = type(value)
        keys: Mapping[str, str] = getattr(sort, "JSON_KEYS", {})
        members = {keys.get(f.name, f.name): plain(getattr(value, f.name)) for f in fields(value)}
        members |= {name: plain(getattr(value, name)) for name in getattr(sort, "JSON_DERIVED", ())}
        if getattr(sort, "JSON_SPARSE", False):
            return {
                k: v for k, v in members.items() if v is not None and v is not False and v != []
            }
        return members
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, Mapping):
        return {key: plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [plain(one) for one in value]
    return value


def pick(value: Any, path: str) -> Any:
    """Return the value at `path`: attributes, or keys of mappings, joined by dots.

    The result is None as soon as a part is None.
    """
    for part in path.split("."):
        if value is None:
            return None
        value = value[part] if isinstance(value, Mapping) else getattr(value, part)
    return value


def keyed(value: Any, *same: str, **paths: str) -> dict[str, Any]:
    """Return a document of a value.

    Parameters
    ----------
    *same : str
        Attributes whose names are the keys.
    **paths : str
        The paths of other keys (`pick`).
    """
    every = {name: name for name in same} | paths
    return {key: plain(pick(value, path)) for key, path in every.items()}
