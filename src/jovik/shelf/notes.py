"""Notes and readings on the shelf."""

from __future__ import annotations

import contextlib
from dataclasses import asdict

import sqlalchemy as sa

from jovik.sheets.reading import Note, Reading
from jovik.shelf.read_results import naming
from jovik.shelf.records import DamagedRecord, read_note, read_reading
from jovik.shelf.schema import drive, note, reading

_FIELDS = ("what", "value", "unit", "method", "instrument", "phrase")


def add(
    c: sa.Connection, drive_id: int, notes: list[Note], readings: list[Reading], now: str
) -> None:
    """Write them down for a drive."""
    written = {"drive_id": drive_id, "written": now}
    if notes:
        rows = map(asdict, notes)
        c.execute(note.insert(), [row | written for row in rows])
    if readings:
        values = [{f: getattr(entry, f) for f in _FIELDS} | written for entry in readings]
        c.execute(reading.insert(), values)


def notes_of(c: sa.Connection, drive_id: int) -> list[Note]:
    """Every note of a drive, oldest first."""
    rows = c.execute(
        sa.select(note).where(note.c.drive_id == drive_id).order_by(note.c.id)
    ).mappings()
    found = []
    for r in rows:
        with contextlib.suppress(DamagedRecord), naming("a note"):
            found.append(
                read_note({f: r[f] for f in ("sort", "text", "written", "happened", "run")})
            )
    return found


def readings(c: sa.Connection, drive_id: int | None = None) -> list[Reading]:
    """Every reading of one drive or of all, in the order in which they were noted."""
    query = sa.select(reading, drive.c.name.label("drive")).join(drive).order_by(reading.c.id)
    if drive_id is not None:
        query = query.where(reading.c.drive_id == drive_id)
    found = []
    for r in c.execute(query).mappings():
        with contextlib.suppress(DamagedRecord), naming(f"a reading of '{r['drive']}'"):
            found.append(read_reading({f: r[f] for f in (*_FIELDS, "drive", "written")}))
    return found
