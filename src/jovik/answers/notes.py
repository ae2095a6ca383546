"""Notes on a drive, and an instrument beside a run: the answers of `jovik note`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.plain_data import keyed
from jovik.queries.instrument import LogBeside
from jovik.queries.readings import Noted
from jovik.sheets.reading import Note, Reading
from jovik.tables.instrument import log_json, log_table
from jovik.tables.readings import listed_json, listed_table, note_line, readings_table
from jovik.tables.table import Table

REMARK_MARKS = {"pro": "+", "con": "-", "remark": " "}


@dataclass(frozen=True)
class NotesAnswer(Answer):
    """Readings of a drive compared with each other, and its pros, cons and remarks."""

    schema: ClassVar[str] = "notes"

    found: Noted

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        notes = ("sort", "text", "written", "happened", "run")
        readings = [
            keyed(r, "what", "value", "unit", "method", "instrument", "written")
            | keyed(b, "place", "of", "measured", median="value.median", low="value.low")
            | {"high": b.value.high, "count": len(b.each)}
            for b in self.found.readings
            for r in b.each
        ]
        return {
            "drive": self.found.drive,
            "notes": [keyed(n, *notes) for n in self.found.notes],
            "readings": readings,
        }

    def csv(self) -> Csv:
        """Return a row for each reading."""
        every = [r for b in self.found.readings for r in b.each]
        return csv_of(every, "what", "value", "unit", "method", "instrument")

    def tables(self) -> Sequence[Table]:
        """Return the readings, if there are any."""
        return [readings_table(self.found)] if self.found.readings else []

    def notes(self) -> Sequence[str]:
        """Return pros, cons and remarks, or how to enter one."""
        lines = [
            f"{mark} {note_line(n)}"
            for sort, mark in REMARK_MARKS.items()
            for n in self.found.notes
            if n.sort == sort
        ]
        if lines or self.found.readings:
            return lines
        return [
            f"{self.found.drive} has no notes; to add one:",
            f'  jovik note "{self.found.drive}" --pro "..." --reading "boot time=8.1s"',
        ]


@dataclass(frozen=True)
class NotedListAnswer(Answer):
    """Every note and reading of a drive, numbered."""

    schema: ClassVar[str] = "noted"

    drive: str
    noted: tuple[Note | Reading, ...]

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        return {"drive": self.drive, "noted": listed_json(self.noted)}

    def csv(self) -> Csv:
        """Return a row for each note and reading."""
        rows = listed_json(self.noted)
        return Csv(list(rows[0]) if rows else ["number"], [list(row.values()) for row in rows])

    def tables(self) -> Sequence[Table]:
        """Return a row for each note and reading."""
        return [listed_table(self.drive, self.noted)]


@dataclass(frozen=True)
class LogAnswer(Answer):
    """The log of an instrument beside a run, by phase and step."""

    schema: ClassVar[str] = "log-beside"

    found: LogBeside

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        return log_json(self.found)

    def csv(self) -> Csv:
        """Return a row for each phase and each step."""
        rows = [*self.data()["phases"], *self.data()["steps"]]
        return Csv(list(rows[0]), [list(row.values()) for row in rows])

    def tables(self) -> Sequence[Table]:
        """Return the means of each phase and step."""
        return [log_table(self.found)]
