"""Runs on the shelf, read back with their passes."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from jovik.base.circumstances import Circumstance
from jovik.base.errors import ShelfError, UnknownNameError, UsageError
from jovik.base.trace import Trace
from jovik.hardware.rig import Rig
from jovik.shelf.reader import ALWAYS, Reader, Row, Sql, among
from jovik.shelf.records import DamagedRecord, naming, read_rig
from jovik.shelf.results import PASSES, of_drive, order_of, traces
from jovik.shelf.run_records import check_run, read_circumstances

_RUNS = """
SELECT run.*, drive.name AS drive, rig.name AS rig
FROM run JOIN drive ON run.drive_id = drive.id JOIN rig ON run.rig_id = rig.id WHERE """


@dataclass(frozen=True)
class RunRecord:
    """A run as the shelf holds it.

    `imported` names the archive that it came in, None if it was measured with this shelf;
    `excluded` is why it counts for nothing, None if it counts.
    """

    id: str
    drive: str
    rig: str
    target: dict[str, Any]
    plan: str
    seed: int
    started: str
    ended: str | None
    state: str
    laid_out_bytes: int
    device: dict[str, Any] | None
    health_before: dict[str, Any] | None
    health_after: dict[str, Any] | None
    notes: list[str] | None
    options: dict[str, Any]
    unit_id: int | None
    version: str
    imported: str | None = None
    excluded: str | None = None
    circumstances: tuple[Circumstance, ...] = ()


def _record(row: Row) -> RunRecord:
    check_run(row)
    values = {f: row[f] for f in RunRecord.__dataclass_fields__}
    return RunRecord(**(values | {"circumstances": read_circumstances(row["circumstances"])}))


@dataclass(frozen=True)
class RunFigures:
    """The figures of a run: measured steps, passes, their written bytes, and its sample."""

    steps: int
    passes: int
    written_bytes: int
    errors: int
    sample: str | None
    firmware: str | None
    excluded_steps: int = 0


@dataclass(frozen=True)
class StoredPass:
    """A pass of a run: its step's position from 0, its number from 1, and its trace.

    `whole` is True if its step is finished.
    """

    position: int
    number: int
    whole: bool
    trace: Trace


class Runs:
    """The runs of an open shelf, and the rigs that they were made on."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader

    def get(self, key: str) -> RunRecord:
        """Return one run.

        Raises
        ------
        UnknownNameError
            There is none of that name.
        ShelfError
            It is damaged.
        """
        with self._reader.reading() as r:
            row = r.first(_RUNS + "run.id = ?", key)
            if row is None:
                raise UnknownNameError("run", key, r.column("SELECT id FROM run"))
        try:
            return _record(row)
        except DamagedRecord as error:
            raise ShelfError(f"run {key} is damaged: {error}", "see jovik shelf check") from None

    def every(self, name: str | None = None) -> list[RunRecord]:
        """Return every run of a drive (or of all), oldest first.

        What is damaged is left out and named.
        """
        query = _RUNS + of_drive(name) + " ORDER BY " + order_of(self._reader) + ", run.id"
        records = []
        with self._reader.reading() as r:
            for row in r.rows(query):
                with contextlib.suppress(DamagedRecord), naming(f"run {row['id']}"):
                    records.append(_record(row))
        return records

    def figures(self, name: str | None = None) -> dict[str, RunFigures]:
        """Return the figures of each run of a drive, or of all.

        Runs without a pass are not among them.
        """
        query = f"""
SELECT step.run_id, count(DISTINCT step.id) AS steps, count(pass.id) AS passes,
 sum(pass.written_bytes) AS written_bytes, sum(pass.errors) AS errors,
 count(DISTINCT CASE WHEN step.excluded IS NOT NULL THEN step.id END) AS excluded_steps,
 max(step.conditions ->> 'unit') AS unit, max(step.conditions ->> 'firmware') AS firmware
{PASSES} WHERE """
        with self._reader.reading() as r:
            return {
                row["run_id"]: RunFigures(
                    row["steps"],
                    row["passes"],
                    int(row["written_bytes"] or 0),
                    int(row["errors"] or 0),
                    row["unit"],
                    row["firmware"],
                    row["excluded_steps"],
                )
                for row in r.rows(query + of_drive(name) + " GROUP BY step.run_id")
            }

    def named(self, begun: str) -> str:
        """Return the run whose name begins or ends like that, or that has this name.

        Raises
        ------
        UsageError
            Several do.
        UnknownNameError
            None does.
        """
        with self._reader.reading() as r:
            keys = r.column("SELECT id FROM run ORDER BY id")
        if begun in keys:
            return begun
        fitting = [k for k in keys if k.startswith(begun) or k.endswith(begun)] if begun else []
        if len(fitting) == 1:
            return str(fitting[0])
        if fitting:
            shown = ", ".join(fitting[:3]) + (
                f" and {len(fitting) - 3} more" if fitting[3:] else ""
            )
            raise UsageError(f"'{begun}' may be {shown}", "write more of it; see jovik runs")
        raise UnknownNameError("run", begun, keys)

    def circumstances(self, keys: Sequence[str]) -> dict[str, tuple[Circumstance, ...]]:
        """Return the circumstances that mattered when each of these runs began."""
        query = "SELECT run.id, run.circumstances FROM run WHERE run.circumstances IS NOT NULL AND "
        by_run: dict[str, tuple[Circumstance, ...]] = {}
        with self._reader.reading() as r:
            for key, stored in r.tuples(query + among("run.id", list(keys))):
                with contextlib.suppress(DamagedRecord):
                    mattered = tuple(x for x in read_circumstances(stored) if x.matters)
                    by_run |= {key: mattered} if mattered else {}
        return by_run

    def latest(self, states: Sequence[str] = ()) -> str | None:
        """Return the run that was begun last, of these states where any are named."""
        order = order_of(self._reader)
        where = among("run.state", list(states)) if states else ALWAYS
        query = "SELECT run.id FROM run WHERE " + where + " ORDER BY " + order
        with self._reader.reading() as r:
            return next(iter(r.column(query + " DESC, run.id DESC LIMIT 1")), None)

    def passes(self, key: str) -> Iterator[StoredPass]:
        """Yield the passes of a run in order, one at a time."""
        for row, trace in traces(self._reader, Sql("step.run_id = ?", (key,))):
            yield StoredPass(row["position"], row["number"], bool(row["whole"]), trace)

    def traces(self, key: str, phrase: str) -> list[Trace]:
        """Return the passes of every step of a run that has this phrase, with their series."""
        where = Sql("step.run_id = ? AND step.phrase = ? AND step.excluded IS NULL", (key, phrase))
        return [trace for _, trace in traces(self._reader, where)]

    def rig(self, name: str) -> Rig:
        """Return a machine that drives were measured on.

        Raises
        ------
        UnknownNameError
            There is none of that name.
        """
        with self._reader.reading() as r:
            row = r.first("SELECT name, facts, notes FROM rig WHERE name = ?", name)
            if row is None:
                raise UnknownNameError("rig", name, r.column("SELECT name FROM rig"))
        try:
            with naming(f"the rig '{name}'"):
                return read_rig(row)
        except DamagedRecord:
            return Rig(name, {})
