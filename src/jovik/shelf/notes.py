"""Notes, readings and instruments' logs on the shelf."""

from __future__ import annotations

import contextlib

from jovik.sheets.instrument_log import RunLog
from jovik.sheets.reading import Note, Reading
from jovik.shelf.reader import ALWAYS, Reader, Sql, all_of
from jovik.shelf.records import DamagedRecord, naming, read_note, read_reading, read_run_log
from jovik.shelf.results import of_drive
from jovik.shelf.sheets import drive_row

READING_FIELDS = ("what", "value", "unit", "method", "instrument", "phrase")


class Notes:
    """The notes, readings and logs of an open shelf."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader

    def of(self, name: str) -> list[Note]:
        """Return the notes on a drive, oldest first."""
        query = "SELECT sort, text, written, happened, run FROM note WHERE drive_id = ? ORDER BY id"
        with self._reader.reading() as r:
            rows = r.rows(query, drive_row(r, name)["id"])
        every = []
        for row in rows:
            with contextlib.suppress(DamagedRecord), naming("a note"):
                every.append(read_note(row))
        return every

    def readings(self, name: str | None = None) -> list[Reading]:
        """Return every reading of one drive or of all, in the order in which they were noted."""
        fields = ", ".join(f"reading.{f}" for f in (*READING_FIELDS, "written"))
        query = (
            f"SELECT {fields}, drive.name AS drive FROM reading "
            "JOIN drive ON reading.drive_id = drive.id WHERE "
            + of_drive(name)
            + " ORDER BY reading.id"
        )
        with self._reader.reading() as r:
            if name is not None:
                drive_row(r, name)
            rows = r.rows(query)
        readings = []
        for row in rows:
            with contextlib.suppress(DamagedRecord), naming(f"a reading of '{row['drive']}'"):
                readings.append(read_reading(row))
        return readings

    def logs(self, name: str, run: str | None = None) -> list[RunLog]:
        """Return the logs beside the runs of a drive, or beside one of them, oldest first."""
        of_run = Sql("run = ?", (run,)) if run is not None else ALWAYS
        with self._reader.reading() as r:
            of_it = Sql("drive_id = ?", (drive_row(r, name)["id"],))
            where = all_of(of_it, of_run)
            rows = r.rows("SELECT * FROM instrument_log WHERE " + where + " ORDER BY id")
        logs = []
        for row in rows:
            with contextlib.suppress(DamagedRecord), naming(f"a log beside run {row['run']}"):
                logs.append(read_run_log({f: row[f] for f in RunLog.__dataclass_fields__}))
        return logs
