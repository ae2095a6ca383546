"""Results found on a shelf.

What its records become, and which of many is the newest of its kind.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from jovik.base.findings import Findings
from jovik.base.step_result import Conditions, PassFigures, StepResult
from jovik.base.trace import Environment, IoFault, Latencies, Trace
from jovik.shelf.encoding import limits_from_json, recorded_from_json, unpack, unpack_latencies
from jovik.shelf.schema import drive, one_pass, run, step
from jovik.steps import parse

_PASS_FIELDS = (
    "rate_bytes_s",
    "flushed_rate_bytes_s",
    "iops",
    "read_bytes",
    "written_bytes",
    "elapsed_ns",
    "errors",
    "cpu_ns",
)

SWEEP = step.c["facts"]["ladder"].as_string()
"""The phrase of the sweep that a step is a point of."""


def of_drive(name: str | None) -> sa.ColumnElement[bool]:
    """That the drive has this name, where one is given; case does not matter."""
    return drive.c.folded_name == name.strip().casefold() if name is not None else sa.true()


def _of_passes(
    columns: Sequence[sa.ColumnElement[Any]], where: sa.ColumnElement[bool]
) -> sa.Select[Any]:
    """Passes with the step, the run and the drive that they are of."""
    return (
        sa.select(*columns)
        .join(step, one_pass.c.step_id == step.c.id)
        .join(run, step.c.run_id == run.c.id)
        .join(drive, run.c.drive_id == drive.c.id)
        .where(where)
    )


def results(
    engine: sa.Engine, where: sa.ColumnElement[bool], *, with_latencies: bool
) -> list[StepResult]:
    """Every step that has passes, oldest run first, steps in their order.

    `where` is about drive, run and step.
    """
    steps = (
        sa.select(step, drive.c.name.label("drive_name"))
        .join(run, step.c.run_id == run.c.id)
        .join(drive, run.c.drive_id == drive.c.id)
        .where(where)
        .order_by(run.c.started, run.c.id, step.c.position)
    )
    wanted = [one_pass.c.step_id, *(one_pass.c[f] for f in _PASS_FIELDS)]
    if with_latencies:
        wanted.append(one_pass.c.latencies)
    passes = _of_passes(wanted, where).order_by(one_pass.c.number)
    with engine.connect() as c:
        rows = c.execute(steps).mappings().all()
        by_step: dict[int, list[sa.RowMapping]] = {}
        for p in c.execute(passes).mappings():
            by_step.setdefault(p["step_id"], []).append(p)
    return [_result(r, by_step[r["id"]], with_latencies) for r in rows if r["id"] in by_step]


def passes(engine: sa.Engine, where: sa.ColumnElement[bool]) -> list[dict[str, Any]]:
    """See `Shelf.passes`."""
    columns = [
        drive.c.name.label("drive"),
        step.c.run_id.label("run"),
        step.c.position,
        step.c.phrase,
        step.c.kind,
    ]
    columns += [one_pass.c[f] for f in ("number", "finished", "seed", "flush_ns", *_PASS_FIELDS)]
    query = _of_passes(columns, where).order_by(
        run.c.started, run.c.id, step.c.position, one_pass.c.number
    )
    with engine.connect() as c:
        return [dict(r) for r in c.execute(query).mappings()]


MOST_NAMED = 10_000
"""Steps that a query names one by one; databases have a limit."""


def _among(engine: sa.Engine, chosen: sa.Select[tuple[int]]) -> sa.ColumnElement[bool]:
    """That a step is one of these.

    They are picked once here, not in every query that asks for them: picking is what takes long.
    """
    with engine.connect() as c:
        keys = list(c.execute(chosen.limit(MOST_NAMED + 1)).scalars())
    return step.c.id.in_(keys if len(keys) <= MOST_NAMED else chosen)


def latest(
    engine: sa.Engine, name: str | None, *, with_latencies: bool, filled: bool, ladders: bool
) -> list[StepResult]:
    """See `Shelf.latest_results`."""
    where = of_drive(name)
    level = step.c.conditions["filled_percent"].as_integer()
    rung = sa.case((SWEEP.is_(None), 0), else_=1)
    # Rungs and steps of their own apart, the newest of each; the database picks, since a shelf may
    # hold 10,000 runs.
    order = (run.c.started.desc(), run.c.id.desc(), step.c.position.desc())
    newest = sa.func.row_number().over(
        partition_by=(run.c.drive_id, step.c.kind, level, rung), order_by=order
    )
    has_passes = sa.exists().where(one_pass.c.step_id == step.c.id)
    numbered = (
        sa.select(step.c.id, newest.label("newest"))
        .join(run, step.c.run_id == run.c.id)
        .join(drive, run.c.drive_id == drive.c.id)
        .where(where, has_passes, *(() if filled else (level.is_(None),)))
        .subquery()
    )
    chosen = sa.select(numbered.c.id).where(numbered.c.newest == 1)
    found = [
        r
        for r in results(engine, _among(engine, chosen), with_latencies=with_latencies)
        if is_drive_result(r, filled)
    ]
    plain = {r.drive for r in found if r.findings.sweep is None}
    age = {key: n for n, key in enumerate(dict.fromkeys(r.run for r in found))}
    # Oldest first; of one run a step of its own comes last, for it has more passes than a rung of
    # the same kind.
    found.sort(key=lambda r: (age[r.run], r.findings.sweep is None))
    latest = {
        (r.drive, r.kind, r.conditions.filled_percent): r
        for r in found
        if ladders or r.findings.sweep is None or r.drive not in plain
    }
    first = (
        sa.select(drive.c.name)
        .join(run, run.c.drive_id == drive.c.id)
        .group_by(drive.c.id, drive.c.name)
        .order_by(sa.func.min(run.c.started))
    )
    with engine.connect() as c:
        places = {d: i for i, d in enumerate(c.execute(first).scalars())}
    return sorted(latest.values(), key=lambda r: places[r.drive])


def of_several_rigs(engine: sa.Engine, name: str | None) -> list[StepResult]:
    """See `Shelf.results_of_several_rigs`."""
    mine = sa.select(drive.c.id).where(of_drive(name))
    several = (
        sa.select(run.c.drive_id)
        .where(run.c.drive_id.in_(mine))
        .group_by(run.c.drive_id)
        .having(sa.func.count(sa.distinct(run.c.rig_id)) > 1)
    )
    order = (run.c.started.desc(), run.c.id.desc(), step.c.position.desc())
    newest = sa.func.row_number().over(
        partition_by=(run.c.drive_id, run.c.unit_id, run.c.rig_id, step.c.kind), order_by=order
    )
    where = (
        run.c.drive_id.in_(several),
        SWEEP.is_(None),
        step.c.conditions["filled_percent"].as_integer().is_(None),
        sa.exists().where(one_pass.c.step_id == step.c.id),
    )
    numbered = (
        sa.select(step.c.id, newest.label("newest"))
        .join(run, step.c.run_id == run.c.id)
        .where(*where)
        .subquery()
    )
    chosen = sa.select(numbered.c.id).where(numbered.c.newest == 1)
    return [
        r
        for r in results(engine, _among(engine, chosen), with_latencies=False)
        if is_drive_result(r, filled=False)
    ]


def _result(
    row: sa.RowMapping, passes: Sequence[sa.RowMapping], with_latencies: bool
) -> StepResult:

    latencies = {}
    if with_latencies:
        parts = [unpack_latencies(p["latencies"]) for p in passes]
        for direction in ("read", "write"):
            whole = Latencies.merged(p[direction] for p in parts if direction in p)
            if whole is not None:
                latencies[direction] = whole
    return StepResult(
        phrase=row["phrase"],
        kind=row["kind"],
        passes=tuple(PassFigures(**{f: p[f] for f in _PASS_FIELDS}) for p in passes),
        latencies=latencies,
        conditions=Conditions(**row["conditions"]),
        drive=row["drive_name"],
        run=row["run_id"],
        started=row["started"],
        limits=limits_from_json(row["limits"]),
        notes=tuple(row["notes"]),
        findings=Findings.from_json(row["facts"]),
    )


def is_drive_result(result: StepResult, filled: bool) -> bool:
    """Whether a result is a figure of the drive, unfilled unless `filled` is set."""
    return parse(result.phrase).ranked and (filled or result.conditions.filled_percent is None)


def trace_of(row: sa.RowMapping) -> Trace:
    """A pass as it was recorded; it needs the conditions of its step beside it."""
    fault, around = row["first_fault"], row["environment"]
    if around is not None:
        around = around | {
            "temperatures": tuple((at, values) for at, values in around["temperatures"])
        }
    return Trace(
        engine=row["conditions"]["engine"],
        direct=row["conditions"]["direct"],
        seed=row["seed"],
        elapsed_ns=row["elapsed_ns"],
        flush_ns=row["flush_ns"],
        cpu_ns=row["cpu_ns"],
        slices=unpack(row["slices"])["slices"],
        latencies=unpack_latencies(row["latencies"]),
        late_written_bytes=row["late_written_bytes"] or 0,
        first_fault=IoFault(**fault) if fault else None,
        environment=Environment(**around) if around else None,
        **recorded_from_json(row["facts"]),
    )
