"""Writing a run as it happens: each step and each pass in a transaction of its own."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Callable, Sequence
from typing import Any

import sqlalchemy as sa

from jovik.analysis.step_result import Conditions, StepResult
from jovik.base.errors import ShelfError, ShelfUnreachableError
from jovik.base.health import Health
from jovik.base.interruption import held_back
from jovik.base.plain_data import plain
from jovik.base.trace import Trace
from jovik.shelf.encoding import pack, pack_latencies, recorded_as_json
from jovik.shelf.journal import JournalEntry, make
from jovik.shelf.place import is_server
from jovik.shelf.postgresql import with_timeout
from jovik.shelf.schema import run
from jovik.shelf.spool import Spool, flush_spool
from jovik.steps import Step


def utc_now() -> str:
    """Return this moment as ISO 8601 UTC."""
    return (
        datetime.datetime.now(datetime.UTC)
        .isoformat(timespec="milliseconds")
        .replace("+00:00", "Z")
    )


def insert_if_absent(c: sa.Connection, table: sa.Table, values: dict[str, Any]) -> None:
    """Insert a row, unless one of the same name is there.

    Of several processes that meet the same thing at once, one enrols it.
    """
    with contextlib.suppress(sa.exc.IntegrityError), c.begin_nested():
        c.execute(table.insert().values(values))


def next_arrival() -> sa.ScalarSelect[int]:
    """Return the number of the run that is inserted now, counted as runs come."""
    return sa.select(sa.func.coalesce(sa.func.max(run.c.arrival), 0) + 1).scalar_subquery()


WAITING_HINT = "they are delivered as soon as a jovik command can write the shelf"


class RunWriter:
    """Takes the passes of one run as they finish.

    Each call is one transaction, and returns only when what it was given is safe.

    From the moment on that the shelf cannot be written, entries wait in a file of this machine
    (`Spool`) in their order; they are delivered when the run ends, or when the shelf is next
    opened. A shelf that is only busy or away lets the run go on; any other failure ends it.

    Parameters
    ----------
    engine : sqlalchemy Engine
        Whose transactions write.
    where : str
        The shelf, as its spool knows it.
    key : str
        The run.
    laid_out_bytes : int
        What the run laid out before, where it is resumed.
    """

    def __init__(self, engine: sa.Engine, where: str, key: str, laid_out_bytes: int = 0) -> None:
        self.id = key
        self.written_bytes = 0
        self._writing = engine
        self._where = where
        self._laid_out = laid_out_bytes
        self._spool: Spool | None = None
        self._enter: Callable[[Callable[[], None]], None] = (
            with_timeout if is_server(where) else lambda work: work()
        )

    def step_begun(self, position: int, one: Step, conditions: Conditions) -> None:
        """Enter a step."""
        values = dict(
            phrase=one.canonical,
            kind=one.kind,
            conditions=plain(conditions),
            limits=[],
            notes=[],
            started=utc_now(),
        )
        self._make(JournalEntry("step", values, position))

    @held_back()
    def pass_done(self, position: int, number: int, trace: Trace) -> None:
        """Enter a finished pass."""
        written = trace.written_bytes + trace.late_written_bytes
        values = dict(
            number=number,
            finished=utc_now(),
            seed=trace.seed,
            rate_bytes_s=trace.rate_bytes_s,
            flushed_rate_bytes_s=trace.flushed_rate_bytes_s,
            iops=trace.iops,
            read_bytes=trace.read_bytes,
            written_bytes=written,
            elapsed_ns=trace.elapsed_ns,
            flush_ns=trace.flush_ns,
            cpu_ns=trace.cpu_ns,
            errors=trace.errors,
            first_fault=plain(trace.first_fault) if trace.first_fault else None,
            environment=plain(trace.environment) if trace.environment else None,
            slices=pack(slices=trace.slices),
            latencies=pack_latencies(trace.latencies),
            facts=recorded_as_json(trace),
            late_written_bytes=trace.late_written_bytes,
        )
        self.written_bytes += written
        self._make(JournalEntry("pass", values, position))

    def step_done(self, position: int, result: StepResult) -> None:
        """Store the findings that need all passes."""
        values = dict(
            limits=plain(result.limits),
            notes=list(result.notes),
            facts=plain(result.findings) or None,
            finished=True,
        )
        self._make(JournalEntry("done", values, position))

    def laid_out(self, written_bytes: int) -> None:
        """Count laid-out bytes."""
        self.written_bytes += written_bytes
        self._laid_out += written_bytes
        self._make(JournalEntry("run", {"laid_out_bytes": self._laid_out}))

    def health(self, before: Health | None, after: Health | None, notes: Sequence[str]) -> None:
        """Store the drive's own log from before and after, and the notes on the run."""
        values = {
            "health_before": plain(before) if before else None,
            "health_after": plain(after) if after else None,
            "notes": list(notes),
        }
        self._make(JournalEntry("run", values))

    def close(self, state: str) -> None:
        """End the run: done, failed or interrupted."""
        self._make(JournalEntry("run", {"ended": utc_now(), "state": state}))

    @held_back()
    def flush(self) -> None:
        """Deliver waiting entries.

        Raises
        ------
        ShelfError
            It still cannot be written: with the file that holds what waits.
        """
        if self._spool is None:
            return
        spool, self._spool = self._spool, None
        spool.close()
        try:
            flush_spool(self._writing, self._where)
        except ShelfError as error:
            raise type(error)(
                f"{error.message.rstrip('.')}; {_passes(spool.passes)} of run {self.id} "
                f"wait in {spool.path}",
                "; ".join(filter(None, (error.hint, WAITING_HINT))),
            ) from None

    @held_back()
    def _make(self, entry: JournalEntry) -> None:
        if self._spool is None:
            try:
                self._enter(lambda: self._make_now(entry))
                return
            except ShelfError as error:
                # Whether this entry had arrived when the connection broke cannot be known; made
                # again it changes nothing.
                self._spool = Spool(self._where, self.id)
                self._spool.add(entry)
                if not isinstance(error, ShelfUnreachableError):
                    raise
                return
        self._spool.add(entry)

    def _make_now(self, entry: JournalEntry) -> None:
        with self._writing.begin() as c:
            make(c, self.id, entry)


def _passes(count: int) -> str:
    return f"{count} finished {'pass' if count == 1 else 'passes'}"
