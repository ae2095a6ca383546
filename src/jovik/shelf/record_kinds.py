"""The tables whose rows are records, with how they are read, for exports, imports and checks."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from jovik.shelf.records import (
    read_claim,
    read_drive,
    read_note,
    read_reading,
    read_rig,
    read_run_log,
)
from jovik.shelf.run_records import check_run
from jovik.shelf.schema import claim, drive, instrument_log, note, reading, rig, run, unit


@dataclass(frozen=True)
class RecordKind:
    """A table whose rows are records: how they are read and where they are exported.

    `part` is the key under which a drive's record lists them in an export, or empty if they are no
    part of a drive. `private` are the columns that mean something on one shelf only.
    """

    table: sa.Table
    read: Callable[[Mapping[str, Any]], object]
    part: str = ""
    private: tuple[str, ...] = ("id", "drive_id")


KINDS = (
    RecordKind(drive, read_drive, private=("id", "folded_name")),
    RecordKind(rig, read_rig, private=("id",)),
    RecordKind(claim, read_claim, "claims"),
    RecordKind(unit, dict, "units"),
    RecordKind(note, read_note, "notes"),
    RecordKind(reading, read_reading, "readings"),
    RecordKind(instrument_log, read_run_log, "logs"),
    RecordKind(run, check_run, private=()),
)
"""Every such table, in the order of an export."""
PARTS = {kind.part: kind for kind in KINDS if kind.part}
"""Records written about a drive, by key."""
