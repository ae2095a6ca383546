"""Runs found on a shelf: their records, their order, and the passes they have made."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from jovik.base.circumstances import Circumstance
from jovik.base.errors import ShelfError, UnknownNameError, UsageError
from jovik.base.trace import Trace
from jovik.shelf import read_results
from jovik.shelf.records import DamagedRecord, check_run, read_circumstances
from jovik.shelf.schema import drive, one_pass, rig, run, step

_RUNS = (
    sa.select(run, drive.c.name.label("drive"), rig.c.name.label("rig"))
    .join(drive, run.c.drive_id == drive.c.id)
    .join(rig)
)


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


def _record(row: sa.RowMapping) -> RunRecord:
    check_run(row)
    values = {f: row[f] for f in RunRecord.__dataclass_fields__}
    return RunRecord(**(values | {"circumstances": read_circumstances(row["circumstances"])}))


def run_of(engine: sa.Engine, key: str) -> RunRecord:
    """Return one run.

    Raises
    ------
    UnknownNameError
        There is none of that name.
    ShelfError
        It is damaged.
    """
    with engine.connect() as c:
        row = c.execute(_RUNS.where(run.c.id == key)).mappings().first()
        if row is None:
            raise UnknownNameError("run", key, c.execute(sa.select(run.c.id)).scalars())
    try:
        return _record(row)
    except DamagedRecord as error:
        raise ShelfError(f"run {key} is damaged: {error}", "see jovik shelf check") from None


def runs(engine: sa.Engine, name: str | None) -> list[RunRecord]:
    """Return every run of a drive (or of all), oldest first.

    What is damaged is left out and named.
    """
    order = read_results.order_of(engine)
    records = []
    with engine.connect() as c:
        query = _RUNS.where(read_results.of_drive(name)).order_by(order, run.c.id)
        for row in c.execute(query).mappings():
            with contextlib.suppress(DamagedRecord), read_results.naming(f"run {row['id']}"):
                records.append(_record(row))
    return records


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


def figures(engine: sa.Engine, name: str | None) -> dict[str, RunFigures]:
    """Return the figures of each run of a drive, or of all.

    Runs without a pass are not among them.
    """
    query = (
        sa.select(
            step.c.run_id,
            sa.func.count(sa.distinct(step.c.id)).label("steps"),
            sa.func.count(one_pass.c.id).label("passes"),
            sa.func.sum(one_pass.c.written_bytes).label("written_bytes"),
            sa.func.sum(one_pass.c.errors).label("errors"),
            sa.func.count(sa.distinct(sa.case((step.c.excluded.is_not(None), step.c.id)))).label(
                "excluded_steps"
            ),
            sa.func.max(step.c.conditions["unit"].as_string()).label("unit"),
            sa.func.max(step.c.conditions["firmware"].as_string()).label("firmware"),
        )
        .join(one_pass, one_pass.c.step_id == step.c.id)
        .join(run, step.c.run_id == run.c.id)
        .join(drive, run.c.drive_id == drive.c.id)
        .where(read_results.of_drive(name))
        .group_by(step.c.run_id)
    )
    with engine.connect() as c:
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
            for row in c.execute(query).mappings()
        }


def named(engine: sa.Engine, begun: str) -> str:
    """Return the run whose name begins or ends like that, or that has this name.

    Raises
    ------
    UsageError
        Several do.
    UnknownNameError
        None does.
    """
    with engine.connect() as c:
        keys = list(c.execute(sa.select(run.c.id).order_by(run.c.id)).scalars())
    if begun in keys:
        return begun
    fitting = [k for k in keys if k.startswith(begun) or k.endswith(begun)] if begun else []
    if len(fitting) == 1:
        return str(fitting[0])
    if fitting:
        shown = ", ".join(fitting[:3]) + (f" and {len(fitting) - 3} more" if fitting[3:] else "")
        raise UsageError(f"'{begun}' may be {shown}", "write more of it; see jovik runs")
    raise UnknownNameError("run", begun, keys)


def circumstances(engine: sa.Engine, keys: Sequence[str]) -> dict[str, tuple[Circumstance, ...]]:
    """Return the circumstances that mattered when each of these runs began."""
    query = sa.select(run.c.id, run.c.circumstances).where(
        run.c.id.in_(keys), run.c.circumstances.is_not(None)
    )
    by_run: dict[str, tuple[Circumstance, ...]] = {}
    with engine.connect() as c:
        for key, stored in c.execute(query):
            with contextlib.suppress(DamagedRecord):
                mattered = tuple(x for x in read_circumstances(stored) if x.matters)
                by_run |= {key: mattered} if mattered else {}
    return by_run


def latest_run(engine: sa.Engine, states: Sequence[str]) -> str | None:
    """Return the run that was begun last, of these states where any are named."""
    order = read_results.order_of(engine)
    query = sa.select(run.c.id).order_by(order.desc(), run.c.id.desc()).limit(1)
    if states:
        query = query.where(run.c.state.in_(states))
    with engine.connect() as c:
        return c.execute(query).scalar()


@dataclass(frozen=True)
class StoredPass:
    """A pass of a run: its step's position from 0, its number from 1, and its trace.

    `whole` is True if its step is finished.
    """

    position: int
    number: int
    whole: bool
    trace: Trace


def passes_of_run(engine: sa.Engine, key: str) -> Iterator[StoredPass]:
    """Yield the passes of a run in order, one at a time."""
    for row, trace in read_results.traces(engine, step.c.run_id == key):
        yield StoredPass(row["position"], row["number"], bool(row["whole"]), trace)
