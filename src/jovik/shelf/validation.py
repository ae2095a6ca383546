"""Records from elsewhere compared with the columns of their table."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping
from typing import Any

import sqlalchemy as sa


class InvalidRecord(ValueError):
    """A record that cannot be of a shelf, in words."""


def columns_of(table: sa.Table) -> list[str]:
    """Return names of a table's columns that are no bytes."""
    return [c.name for c in table.columns if not isinstance(c.type, sa.LargeBinary)]


_SORTS: dict[type, tuple[type, ...]] = {
    sa.String: (str,),
    sa.Integer: (int,),
    sa.BigInteger: (int,),
    sa.Float: (int, float),
    sa.Boolean: (bool,),
}
LARGEST_INTEGERS: dict[type, int] = {sa.Integer: 2**31 - 1, sa.BigInteger: 2**63 - 1}


LATER_COLUMNS: dict[str, dict[str, Any]] = {
    "drive": {"flash_bytes": None, "class_name": None, "address": None},
    "claim": {
        "steady": False,
        "span_bytes": None,
        "compressible_percent": None,
        "conditions": "",
    },
    "run": {"excluded": None, "circumstances": None},
    "step": {"excluded": None},
    "instrument_log": {"method": "", "instrument": ""},
    "note": {"happened": None, "run": None},
}
"""Columns that earlier archives lack, by table, and their values there."""


def checked(table: sa.Table, record: Mapping[str, Any], without: Collection[str]) -> dict[str, Any]:
    """Return the record if it has exactly the table's columns except `without`.

    Raises
    ------
    InvalidRecord
        It does not; the message names the column.
    """
    wanted = {c.name: c for c in table.columns if c.name not in without}
    record = LATER_COLUMNS.get(table.name, {}) | dict(record)
    if unknown := set(record) - set(wanted):
        raise InvalidRecord(f"a {table.name} has no '{sorted(map(str, unknown))[0]}'")
    for name, column in wanted.items():
        if name not in record:
            raise InvalidRecord(f"a {table.name} has no '{name}' here, and needs one")
        _check(table.name, column, record[name])
    return dict(record)


def _check(what: str, column: sa.Column[Any], value: Any) -> None:
    if value is None:
        if not column.nullable:
            raise InvalidRecord(f"'{column.name}' of a {what} is empty")
        return
    sorts = _SORTS.get(type(column.type))
    if sorts is None:
        return  # JSON, whatever it is
    if not isinstance(value, sorts) or (isinstance(value, bool) and bool not in sorts):
        raise InvalidRecord(f"'{column.name}' of a {what} is {value!r:.40}")
    if isinstance(value, str) and "\0" in value:
        raise InvalidRecord(f"'{column.name}' of a {what} holds a zero byte")
    if isinstance(value, float) and not math.isfinite(value):
        raise InvalidRecord(f"'{column.name}' of a {what} is {value}")
    if isinstance(value, int) and abs(value) > LARGEST_INTEGERS.get(type(column.type), 2**1023):
        raise InvalidRecord(f"'{column.name}' of a {what} is out of range")
