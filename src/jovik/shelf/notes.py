"""Notes and readings on the shelf."""

from __future__ import annotations

import contextlib
from dataclasses import asdict

import sqlalchemy as sa

from jovik.sheets.instrument_log import RunLog
from jovik.sheets.reading import Note, Reading
from jovik.shelf.records import DamagedRecord, read_note, read_reading, read_run_log
from jovik.shelf.results import naming
from jovik.shelf.schema import drive, instrument_log, note, reading
from jovik.shelf.sheets import drive_row
from jovik.shelf.writer import utc_now

_FIELDS = ("what", "value", "unit", "method", "instrument", "phrase")


def _add(
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


def _notes_of(c: sa.Connection, drive_id: int) -> list[Note]:
    """Return every note of a drive, oldest first."""
    rows = c.execute(
        sa.select(note).where(note.c.drive_id == drive_id).order_by(note.c.id)
    ).mappings()
    every = []
    for r in rows:
        with contextlib.suppress(DamagedRecord), naming("a note"):
            every.append(
                read_note({f: r[f] for f in ("sort", "text", "written", "happened", "run")})
            )
    return every


def _readings(c: sa.Connection, drive_id: int | None = None) -> list[Reading]:
    """Return every reading of one drive or of all, in the order in which they were noted."""
    query = sa.select(reading, drive.c.name.label("drive")).join(drive).order_by(reading.c.id)
    if drive_id is not None:
        query = query.where(reading.c.drive_id == drive_id)
    readings = []
    for r in c.execute(query).mappings():
        with contextlib.suppress(DamagedRecord), naming(f"a reading of '{r['drive']}'"):
            readings.append(read_reading({f: r[f] for f in (*_FIELDS, "drive", "written")}))
    return readings


def _add_log(
    c: sa.Connection, drive_id: int, found: RunLog, means: list[Reading], now: str
) -> bool:
    """Store a log with its means. Return True if it replaced an earlier one.

    A log of the same quantity beside the same run is the same log, laid anew.
    """
    same = (
        instrument_log.c.run == found.run,
        sa.func.lower(instrument_log.c.quantity) == found.quantity.lower(),
    )
    replaced = c.execute(instrument_log.delete().where(*same)).rowcount > 0
    for method in {m.method for m in means}:
        prefix = f"{found.quantity}, "
        old = (
            reading.c.drive_id == drive_id,
            reading.c.method == method,
            sa.func.lower(sa.func.substr(reading.c.what, 1, len(prefix))) == prefix.lower(),
        )
        c.execute(reading.delete().where(*old))
    values = asdict(found) | {"drive_id": drive_id, "written": now}
    c.execute(
        instrument_log.insert().values(
            values | {k: list(values[k]) for k in ("seconds", "readings")}
        )
    )
    _add(c, drive_id, [], means, now)
    return replaced


def _logs(c: sa.Connection, drive_id: int, run: str | None = None) -> list[RunLog]:
    """Return the logs beside the runs of a drive, or beside one of them, oldest first."""
    query = sa.select(instrument_log).where(instrument_log.c.drive_id == drive_id)
    if run is not None:
        query = query.where(instrument_log.c.run == run)
    logs = []
    for r in c.execute(query.order_by(instrument_log.c.id)).mappings():
        with contextlib.suppress(DamagedRecord), naming(f"a log beside run {r['run']}"):
            logs.append(read_run_log({f: r[f] for f in RunLog.__dataclass_fields__}))
    return logs


class Notes:
    """The notes, readings and logs of an open shelf."""

    def __init__(self, engine: sa.Engine, writing: sa.Engine) -> None:
        self._engine, self._writing = engine, writing

    def add(self, name: str, notes: list[Note], readings: list[Reading]) -> None:
        """Write notes and readings down for a drive."""
        with self._writing.begin() as c:
            _add(c, drive_row(c, name)["id"], notes, readings, utc_now())

    def of(self, name: str) -> list[Note]:
        """Return the notes on a drive, oldest first."""
        with self._engine.connect() as c:
            return _notes_of(c, drive_row(c, name)["id"])

    def readings(self, name: str | None = None) -> list[Reading]:
        """Return the newest reading of each quantity by each method, of one drive or of all."""
        with self._engine.connect() as c:
            return _readings(c, drive_row(c, name)["id"] if name is not None else None)

    def add_log(self, name: str, log: RunLog, means: list[Reading]) -> bool:
        """Store an instrument's log beside a run. Return True if it replaced an earlier one."""
        with self._writing.begin() as c:
            return _add_log(c, drive_row(c, name)["id"], log, means, utc_now())

    def logs(self, name: str, run: str | None = None) -> list[RunLog]:
        """Return the instrument logs beside the runs of a drive, or beside one of them."""
        with self._engine.connect() as c:
            return _logs(c, drive_row(c, name)["id"], run)
