"""Writing a run as it happens: each step and each pass in a transaction of its own."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

import sqlalchemy as sa

from jovik.results import Conditions, Health, StepResult, Trace
from jovik.shelf.arrays import pack, pack_latencies
from jovik.shelf.schema import one_pass, run, step


def utc_now() -> str:
    """This moment as ISO 8601 UTC."""
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


class RunWriter:
    """Takes the passes of one run as they finish; each call is one transaction (`jovik.bench.Sink`)."""

    def __init__(self, engine: sa.Engine, key: str, steps: dict[int, int] | None = None) -> None:
        self.id = key
        self._writing = engine
        self._steps = steps or {}

    def step_begun(self, position: int, one: Any, conditions: Conditions) -> None:
        """Enter a step; of a run that is resumed it may be there already, and keeps the conditions of its first pass."""
        if position in self._steps:
            return
        values = dict(
            run_id=self.id, position=position, phrase=one.canonical, kind=one.kind, conditions=asdict(conditions), limits=[], notes=[],
            started=utc_now(),
        )  # fmt: skip
        with self._writing.begin() as c:
            key = c.execute(step.insert().values(values)).inserted_primary_key
        assert key is not None
        self._steps[position] = key[0]

    def pass_done(self, position: int, number: int, trace: Trace) -> None:
        """Enter a finished pass."""
        values = dict(
            step_id=self._steps[position], number=number, finished=utc_now(), seed=trace.seed, rate_bytes_s=trace.rate_bytes_s,
            flushed_rate_bytes_s=trace.flushed_rate_bytes_s, iops=trace.iops, read_bytes=trace.read_bytes,
            written_bytes=trace.written_bytes + trace.late_written_bytes, elapsed_ns=trace.elapsed_ns, flush_ns=trace.flush_ns,
            cpu_ns=trace.cpu_ns, errors=trace.errors, first_fault=asdict(trace.first_fault) if trace.first_fault else None,
            environment=asdict(trace.environment) if trace.environment else None,
            slices=pack(slices=trace.slices), latencies=pack_latencies(trace.latencies), facts=trace.facts or None,
            late_written_bytes=trace.late_written_bytes,
        )  # fmt: skip
        with self._writing.begin() as c:
            # A step that is made whole or not at all, such as a scan, is made again when a run was killed between its pass and its end.
            c.execute(one_pass.delete().where(one_pass.c.step_id == values["step_id"], one_pass.c.number == number))
            c.execute(one_pass.insert().values(values))

    def step_done(self, position: int, result: StepResult) -> None:
        """Enter what can only be said when all passes are there."""
        values = dict(limits=[asdict(x) for x in result.limits], notes=list(result.notes), facts=result.facts or None, finished=True)
        with self._writing.begin() as c:
            c.execute(step.update().where(step.c.id == self._steps[position]).values(values))

    def laid_out(self, written_bytes: int) -> None:
        """Count what was laid out."""
        with self._writing.begin() as c:
            c.execute(run.update().where(run.c.id == self.id).values(laid_out_bytes=run.c.laid_out_bytes + written_bytes))

    def health(self, before: Health | None, after: Health | None, notes: Sequence[str]) -> None:
        """Enter the drive's own log from before and after, and what it says of the run."""
        values = {"health_before": asdict(before) if before else None, "health_after": asdict(after) if after else None, "notes": list(notes)}
        with self._writing.begin() as c:
            c.execute(run.update().where(run.c.id == self.id).values(values))

    def close(self, state: str) -> None:
        """End the run: done, failed or interrupted."""
        with self._writing.begin() as c:
            c.execute(run.update().where(run.c.id == self.id).values(ended=utc_now(), state=state))
