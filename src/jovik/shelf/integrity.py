"""Whether a shelf is whole: every record is built as any reader would build it."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from jovik.analysis.step_result import Conditions
from jovik.base.long_work import tracked
from jovik.shelf.record_kinds import KINDS
from jovik.shelf.recordings import read_kept
from jovik.shelf.records import DamagedRecord
from jovik.shelf.run_records import check_figures, check_step, read_conditions, read_trace
from jovik.shelf.schema import (
    drive,
    one_pass,
    recording,
    run,
    step,
)

A_SHARE, MOST_WORKERS = 4_000, 8
"""Records that a process looks at before it takes the next ones, and processes."""


@dataclass(frozen=True)
class IntegrityReport:
    """The number of records of each sort on a shelf, and its faults, in words."""

    counts: dict[str, int]
    faults: tuple[str, ...]


def check(engine: sa.Engine) -> IntegrityReport:
    """Check a whole shelf: the database's own check, and every record."""
    faults: list[str] = []
    with engine.connect() as c:
        faults += _of_database(c)
        counts = {
            f"{t.name}{'es' if t.name == 'pass' else 's'}": c.execute(
                sa.select(sa.func.count()).select_from(t)
            ).scalar_one()
            for t in (drive, run, step, one_pass)
        }
        faults += _of_tables(c)
    faults += _of_steps(engine, counts["passes"])
    return IntegrityReport(counts, tuple(faults))


def _of_database(c: sa.Connection) -> Iterator[str]:
    if c.dialect.name != "sqlite":
        return
    for row in c.exec_driver_sql("PRAGMA integrity_check"):
        if row[0] != "ok":
            yield f"the database: {row[0]}"
    for row in c.exec_driver_sql("PRAGMA foreign_key_check"):
        yield f"{row[0]} {row[1]} refers to a {row[2]} that is not there"


def _of_tables(c: sa.Connection) -> Iterator[str]:
    """Yield every record but the steps and passes."""
    for kind in KINDS:
        for row in c.execute(sa.select(kind.table)).mappings():
            given = {k: v for k, v in row.items() if k not in kind.private}
            yield from _fault(f"{kind.table.name} {row['id']}", kind.read, given)
    for row in c.execute(sa.select(recording)).mappings():
        yield from _fault(f"recording {row['id']}", read_kept, dict(row))


def _of_steps(engine: sa.Engine, count: int) -> Iterator[str]:
    """Yield every step and every pass, by one process per core if that is faster."""
    ranges: list[Range] = []
    with engine.connect() as c:
        for table in (step, one_pass):
            last = c.execute(sa.select(sa.func.max(table.c.id))).scalar() or 0
            ranges += [(table.name, n, n + A_SHARE) for n in range(0, last + 1, A_SHARE)]
    workers = min(os.cpu_count() or 1, len(ranges) // 2, MOST_WORKERS)
    with contextlib.ExitStack() as stack:
        problems: Iterable[tuple[int, list[str]]] = (_look_at(engine, r) for r in ranges)
        if workers > 1 and "fork" in multiprocessing.get_all_start_methods():
            # A connection must not be used on both sides of a fork.
            engine.dispose()
            pool = multiprocessing.get_context("fork").Pool(workers, _take, (engine,))
            problems = stack.enter_context(pool).imap(_look, ranges)
        for _, faults in tracked(problems, "passes", count, lambda found: found[0]):
            yield from faults


Range = tuple[str, int, int]
"""Steps or passes, by their table's name, from an id on to before another."""
_shelf: list[sa.Engine] = []
"""Of a process that looks at a share of a shelf."""


def _take(engine: sa.Engine) -> None:
    engine.dispose(close=False)
    _shelf[:] = [engine]


def _look(ids: Range) -> tuple[int, list[str]]:
    return _look_at(_shelf[0], ids)


def _look_at(engine: sa.Engine, ids: Range) -> tuple[int, list[str]]:
    """Check a range of steps or passes, and return their number and their faults."""
    table, first, end = ids
    with engine.connect() as c:
        if table == step.name:
            query = sa.select(step).where(step.c.id >= first, step.c.id < end)
            return 0, [f for row in c.execute(query).mappings() for f in _of_step(dict(row))]
        return _of_passes(c, (one_pass.c.id >= first, one_pass.c.id < end))


def _of_step(row: dict[str, Any]) -> Iterator[str]:
    yield from _fault(f"run {row['run_id']}, step {row['position'] + 1}", check_step, row)


def _of_passes(c: sa.Connection, mine: Sequence[sa.ColumnElement[bool]]) -> tuple[int, list[str]]:
    columns = (step.c.id, step.c.run_id, step.c.position, step.c.conditions)
    of_mine = sa.select(one_pass.c.step_id).where(*mine)
    steps = {
        r["id"]: {"run_id": r["run_id"], "position": r["position"]}
        | {"conditions": _conditions(r["conditions"])}
        for r in c.execute(sa.select(*columns).where(step.c.id.in_(of_mine))).mappings()
    }
    rows = c.execute(sa.select(one_pass).where(*mine).order_by(one_pass.c.id))
    names, looked = list(rows.keys()), 0
    faults: list[str] = []
    for one in rows:
        looked += 1
        row: dict[str, Any] = dict(zip(names, one, strict=True))
        of = steps.get(row["step_id"])
        if of is None:
            continue  # told by the database itself
        row |= of
        try:
            check_figures(row, read_trace(row))
        except DamagedRecord as error:
            at = f"run {row['run_id']}, step {row['position'] + 1}, pass {row['number']}"
            faults.append(f"{at}: {error}")
    return looked, faults


def _conditions(stored: Any) -> Conditions:
    """Return conditions, or default ones if they are damaged, which their step reports."""
    try:
        return read_conditions(stored)
    except DamagedRecord:
        return Conditions("", True, 0)


def _fault(at: str, look: Callable[..., object], *given: Any) -> Iterator[str]:
    try:
        look(*given)
    except DamagedRecord as error:
        yield f"{at}: {error}"
