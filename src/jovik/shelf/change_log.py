"""The log of corrections of a shelf, and its excluded runs and steps."""

from __future__ import annotations

from dataclasses import dataclass

from jovik.shelf.reader import ALWAYS, Reader, Sql
from jovik.shelf.results import STEPS


@dataclass(frozen=True)
class LoggedCorrection:
    """An entry of the log: the time, the drive or run, the change, and both values."""

    made: str
    subject: str
    what: str
    before: str | None
    after: str | None


@dataclass(frozen=True)
class Excluded:
    """An excluded run, or step of it. `step` counts from 1, None for a whole run."""

    run: str
    drive: str
    step: int | None
    phrase: str | None
    why: str


class ChangeLog:
    """The corrections of an open shelf."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader

    def excluded(self, drive_name: str | None = None) -> list[Excluded]:
        """Return the exclusions of one drive or of all, oldest first.

        A run made together with others counts for nothing from its start, and is not among them.
        """
        of_drive = Sql("drive.name = ?", (drive_name,)) if drive_name is not None else ALWAYS
        whole = (
            "SELECT run.id, drive.name, run.excluded, run.options "
            "FROM run JOIN drive ON run.drive_id = drive.id WHERE run.excluded IS NOT NULL AND "
        )
        steps = (
            f"SELECT run.id, drive.name, step.position + 1, step.phrase, step.excluded {STEPS} "
            "WHERE step.excluded IS NOT NULL AND run.excluded IS NULL AND "
        )
        with self._reader.reading() as r:
            runs = [
                Excluded(k, d, None, None, why)
                for k, d, why, options in r.tuples(whole + of_drive)
                if not (isinstance(options, dict) and options.get("together"))
            ]
            runs += [Excluded(*row) for row in r.tuples(steps + of_drive)]
        return sorted(runs, key=lambda x: (x.run, x.step or 0))

    def entries(self, subject: str | None = None) -> list[LoggedCorrection]:
        """Return every change that was made, newest first.

        Of one drive or run where one is named.
        """
        of_it = Sql("subject = ?", (subject,)) if subject is not None else ALWAYS
        query = "SELECT made, subject, what, before, after FROM change WHERE " + of_it
        with self._reader.reading() as r:
            return [LoggedCorrection(*row) for row in r.tuples(query + " ORDER BY id DESC")]
