"""The runs of a shelf: the answer of `jovik runs list`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.answers.answer import Answer, Csv
from jovik.base.plain_data import keyed
from jovik.queries.runs import ListedRun, listed_runs
from jovik.shelf.store import Shelf
from jovik.tables.runs import runs_table
from jovik.tables.table import Table


@dataclass(frozen=True)
class RunsAnswer(Answer):
    """Runs, newest first."""

    schema: ClassVar[str] = "runs"

    runs: tuple[ListedRun, ...]

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        return {"runs": [_run(x) for x in self.runs]}

    def csv(self) -> Csv:
        """Return a row for each run."""
        rows = [_run(x) for x in self.runs]
        return Csv(list(rows[0]) if rows else ["run"], [list(row.values()) for row in rows])

    def tables(self) -> Sequence[Table]:
        """Return a row for each run."""
        return [runs_table(list(self.runs))]


def _run(found: ListedRun) -> dict[str, Any]:
    counts = ("excluded_steps", "steps", "passes", "errors")
    return (
        {"run": found.record.id, "drive": found.record.drive}
        | keyed(
            found,
            unit="figures.sample",
            rig="record.rig",
            firmware="figures.firmware",
        )
        | keyed(found.record, "plan", "state", "started", "ended", "imported", "excluded")
        | {n: getattr(found.figures, n) if found.figures else 0 for n in counts}
        | {
            "written_bytes": found.record.laid_out_bytes
            + (found.figures.written_bytes if found.figures else 0)
        }
        | keyed(found, sample="figures.sample")
    )


def runs(
    shelf: Shelf, drive: str | None = None, *, since: str | None = None, rig: str | None = None
) -> RunsAnswer:
    """List the runs of a drive, or of all, newest first."""
    return RunsAnswer(tuple(listed_runs(shelf, drive, since=since, rig=rig)))
