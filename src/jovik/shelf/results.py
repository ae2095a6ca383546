"""Results found on a shelf.

How rows become records, and which of many is the newest of its kind.
"""

from __future__ import annotations

import contextlib
import datetime
import logging
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.functions import FunctionElement

from jovik.analysis.step_result import StepResult
from jovik.analysis.temperature import stuck_sensors
from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.trace import Latencies, Trace
from jovik.shelf.records import (
    PASS_FIELDS,
    DamagedRecord,
    figures_from,
    read_findings,
    read_latencies,
    read_phrase,
    read_step,
    read_trace,
)
from jovik.shelf.schema import drive, one_pass, run, step, unit
from jovik.steps import CopyStep

log = logging.getLogger(__name__)

CLOCK_TOLERANCE = datetime.timedelta(hours=1)
"""How far a clock may be ahead before its date is not believed."""


class sound_json(FunctionElement[Any]):
    """A JSON column, or null if a file holds invalid text in it."""

    type = sa.JSON()
    inherit_cache = True
    name = "sound_json"


@compiles(sound_json)
def _as_it_is(element: Any, compiler: Any, **how: Any) -> str:
    return str(compiler.process(element.clauses, **how))


@compiles(sound_json, "sqlite")
def _if_it_is(element: Any, compiler: Any, **how: Any) -> str:
    column = compiler.process(element.clauses, **how)
    return f"CASE WHEN json_valid({column}) THEN {column} END"


LADDER = sound_json(step.c.facts)["ladder"].as_string()
"""The phrase of the sweep that a step is a point of."""
FILLED_LEVEL = sound_json(step.c.conditions)["filled_percent"].as_integer()
LINK = sound_json(step.c.conditions)["link"].as_string()
FIRMWARE = sound_json(step.c.conditions)["firmware"].as_string()
"""The level that a step was made at on purpose."""


def _fact(condition: sa.ColumnElement[bool]) -> sa.ColumnElement[bool]:
    """Return a condition on a value in a JSON column, as one that is often true.

    A database knows nothing of what is in such a column. PostgreSQL takes it that one row of two
    hundred has nothing there, of two such conditions that no row is left, and then joins 40,000
    steps with 200 drives by looking at every pair.
    """
    return sa.case((condition, sa.true()), else_=sa.false())


NO_RUNG = _fact(LADDER.is_(None))
"""That a step is no point of a sweep."""
NOT_FILLED = _fact(FILLED_LEVEL.is_(None))
"""That a step was not made on a drive that was filled on purpose."""
NOT_EXCLUDED = sa.and_(run.c.excluded.is_(None), step.c.excluded.is_(None))
"""That a step was not excluded, nor its run."""


def of_drive(name: str | None) -> sa.ColumnElement[bool]:
    """Return the condition that the drive has this name, if one is given, in any case."""
    return drive.c.folded_name == name.strip().casefold() if name is not None else sa.true()


def _of_passes(
    columns: Sequence[sa.ColumnElement[Any]], where: sa.ColumnElement[bool]
) -> sa.Select[Any]:
    """Return passes with the step, the run and the drive that they are of."""
    return (
        sa.select(*columns)
        .join(step, one_pass.c.step_id == step.c.id)
        .join(run, step.c.run_id == run.c.id)
        .join(drive, run.c.drive_id == drive.c.id)
        .where(where)
    )


AT_ONCE = 500
"""Steps whose passes are asked for at once: so few that a database looks them up, and does not look
through all that there are."""


def results(
    engine: sa.Engine, where: sa.ColumnElement[bool], *, with_latencies: bool
) -> list[StepResult]:
    """Return every step that has passes, oldest run first, steps in their order.

    `where` is about drive, run and step.
    """
    steps = (
        sa.select(step, drive.c.name.label("drive_name"), run.c.excluded.label("run_excluded"))
        .join(run, step.c.run_id == run.c.id)
        .join(drive, run.c.drive_id == drive.c.id)
        .where(where)
        .order_by(order_of(engine), run.c.id, step.c.position)
    )
    wanted = [one_pass.c.step_id, *(one_pass.c[f] for f in PASS_FIELDS)]
    if with_latencies:
        wanted.append(one_pass.c.latencies)
    with engine.connect() as c:
        rows = c.execute(steps).mappings().all()
        # Of a shelf with a million passes tuples are read in half the time of mappings.
        by_step: dict[int, list[Sequence[Any]]] = {}
        for begin in range(0, len(rows), AT_ONCE):
            keys = [r["id"] for r in rows[begin : begin + AT_ONCE]]
            passes = (
                sa.select(*wanted)
                .where(one_pass.c.step_id.in_(keys))
                .order_by(one_pass.c.step_id, one_pass.c.number)
            )
            for p in c.execute(passes).all():
                by_step.setdefault(p[0], []).append(p)
    results = []
    for r in rows:
        if r["id"] in by_step:
            with contextlib.suppress(DamagedRecord), naming(_at(r)):
                results.append(_result(r, by_step[r["id"]], with_latencies))
    return results


def copied(engine: sa.Engine, where: sa.ColumnElement[bool]) -> list[str]:
    """See `Shelf.copied`."""
    query = (
        sa.select(step.c.phrase)
        .join(run, step.c.run_id == run.c.id)
        .join(drive, run.c.drive_id == drive.c.id)
        .where(where, step.c.kind.startswith(CopyStep.word))
        .distinct()
    )
    results = []
    with engine.connect() as c:
        for phrase in c.execute(query).scalars():
            with contextlib.suppress(DamagedRecord), naming(f"the phrase '{phrase}'"):
                results.append(read_phrase(phrase).canonical)
    return results


def passes(engine: sa.Engine, where: sa.ColumnElement[bool]) -> list[dict[str, Any]]:
    """See `Shelf.passes`."""
    columns = [
        drive.c.name.label("drive"),
        step.c.run_id.label("run"),
        step.c.position,
        step.c.phrase,
        step.c.kind,
        sa.func.coalesce(run.c.excluded, step.c.excluded).label("excluded"),
    ]
    columns += [one_pass.c[f] for f in ("number", "finished", "seed", "flush_ns", *PASS_FIELDS)]
    query = _of_passes(columns, where).order_by(
        order_of(engine), run.c.id, step.c.position, one_pass.c.number
    )
    with engine.connect() as c:
        return [dict(r) for r in c.execute(query).mappings()]


MOST_NAMED = 10_000
"""Steps that a query names one by one. Databases have a limit."""


def _among(engine: sa.Engine, chosen: sa.Select[tuple[int]]) -> sa.ColumnElement[bool]:
    """Return the condition that a step is one of these.

    They are picked once here, not in every query that asks for them: picking is what takes long.
    """
    with engine.connect() as c:
        keys = list(c.execute(chosen.limit(MOST_NAMED + 1)).scalars())
    return step.c.id.in_(keys if len(keys) <= MOST_NAMED else chosen)


def _result(
    row: sa.RowMapping, passes: Sequence[Sequence[Any]], with_latencies: bool
) -> StepResult:
    """Return a step from its row and its passes, as `results` selects them (DamagedRecord)."""
    latencies: dict[str, Latencies] = {}
    last = 1 + len(PASS_FIELDS)
    if with_latencies:
        steady = read_findings(row["facts"]).steady
        shown = steady.window(passes) if steady is not None else passes
        # One pass at a time: a histogram has 22 kB, and a step may have ten thousand passes.
        for one_of_them in shown:
            for direction, part in read_latencies(one_of_them[last]).items():
                known = latencies.get(direction)
                latencies[direction] = part if known is None else Latencies.sum_of(known, part)
    return read_step(dict(row), [figures_from(p[1:last]) for p in passes], latencies)


def is_drive_result(result: StepResult, filled: bool) -> bool:
    """Return True if a result is a figure of the drive, unfilled unless `filled` is set."""
    return result.step.ranked and (filled or result.conditions.filled_percent is None)


def traces(
    engine: sa.Engine, where: sa.ColumnElement[bool]
) -> Iterator[tuple[sa.RowMapping, Trace]]:
    """Yield passes with their series, in order and one at a time.

    Damaged ones are left out and named.

    `where` is about step and run. Each comes with its row, which has `position` and `whole`.
    """
    query = (
        sa.select(
            one_pass,
            step.c.run_id,
            step.c.position,
            step.c.finished.label("whole"),
            step.c.conditions,
        )
        .join(step, one_pass.c.step_id == step.c.id)
        .where(where)
        .order_by(step.c.position, one_pass.c.number)
    )
    with engine.connect() as c:
        for row in c.execution_options(yield_per=100).execute(query).mappings():
            at = f"{_at(row)}, pass {row['number']}"
            trace = None
            with contextlib.suppress(DamagedRecord), naming(at):
                trace = read_trace(row)
            if trace is not None:
                yield row, trace


@contextlib.contextmanager
def naming(at: str) -> Iterator[None]:
    """Log a damaged record by name, and raise the error again."""
    try:
        yield
    except DamagedRecord as error:
        log.warning("%s is damaged and left out: %s", at, error)
        raise


def _at(row: sa.RowMapping) -> str:
    return f"run {row['run_id']}, step {row['position'] + 1}"


def order_of(engine: sa.Engine) -> sa.ColumnElement[str]:
    """Return the order of runs: by their start, as far as their clocks are credible.

    A run that says that it started in the future comes where it arrived: right after the last
    one before it whose date can be true.
    """
    now = (datetime.datetime.now(datetime.UTC) + CLOCK_TOLERANCE).strftime("%Y-%m-%dT%H:%M:%SZ")
    with engine.connect() as c:
        late = c.execute(
            sa.select(run.c.id, run.c.started, run.c.arrival).where(run.c.started > now)
        ).all()
        if not late:
            return run.c.started
        places = []
        for key, started, arrival in late:
            log.warning(
                "run %s is dated %s, in the future: its clock was wrong, and it is taken in the "
                "order in which it arrived",
                key,
                started[:10],
            )
            before = sa.select(sa.func.max(run.c.started)).where(
                run.c.started <= now, run.c.arrival < (arrival or 0)
            )
            last = c.execute(before).scalar()
            # "~" comes after whatever stands in a date.
            places.append((run.c.id == key, f"{last}~" if last else ""))
    return sa.case(*places, else_=run.c.started)


def _newest(
    engine: sa.Engine,
    partition: Sequence[sa.ColumnElement[Any]],
    where: Sequence[sa.ColumnElement[bool]],
    numbers: tuple[int, int] = (1, 1),
    *,
    with_latencies: bool = False,
    filled: bool = False,
) -> list[StepResult]:
    """Return the newest results of each partition, oldest first.

    The database picks them, since a shelf may hold 10,000 runs. They count and have passes.

    Parameters
    ----------
    numbers : (int, int)
        The first and the last of each partition, counted from 1 for the newest.
    filled : bool
        Whether steps on a drive that was filled on purpose are among them.
    """
    order = (order_of(engine).desc(), run.c.id.desc(), step.c.position.desc())
    number = sa.func.row_number().over(partition_by=partition, order_by=order)
    has_passes = sa.exists().where(one_pass.c.step_id == step.c.id)
    numbered = (
        sa.select(step.c.id, number.label("number"))
        .join(run, step.c.run_id == run.c.id)
        .join(drive, run.c.drive_id == drive.c.id)
        .where(NOT_EXCLUDED, has_passes, *where, *(() if filled else (NOT_FILLED,)))
        .subquery()
    )
    chosen = sa.select(numbered.c.id).where(numbered.c.number.between(*numbers))
    return [
        r
        for r in results(engine, _among(engine, chosen), with_latencies=with_latencies)
        if is_drive_result(r, filled)
    ]


RECENT_RESULTS = 3
"""Results of a kind that determine the differences between runs of a drive."""


class Results:
    """The results of an open shelf."""

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = engine

    def every(self, name: str | None = None, *, with_latencies: bool = False) -> list[StepResult]:
        """Return each counted step with passes of a drive, or of all, oldest first.

        A step or a run that was excluded does not count.
        """
        where = sa.and_(of_drive(name), NOT_EXCLUDED)
        return results(self._engine, where, with_latencies=with_latencies)

    def stuck_sensors(self, serial_hash: str) -> frozenset[str]:
        """Return the temperature sensors of a sample that never moved in an earlier run."""
        query = (
            sa.select(drive.c.name, unit.c.name.label("sample"))
            .join(unit, unit.c.drive_id == drive.c.id)
            .where(unit.c.serial_hash == serial_hash)
        )
        with self._engine.connect() as c:
            samples = c.execute(query).all()
        return frozenset().union(*(stuck_sensors(self.every(n), s) for n, s in samples))

    def of_run(self, key: str, *, counted: bool = False) -> list[StepResult]:
        """Return every step of a run that has passes, in order.

        `counted` leaves exclusions out.
        """
        where = run.c.id == key
        if counted:
            where = sa.and_(where, NOT_EXCLUDED)
        return results(self._engine, where, with_latencies=True)

    def latest(
        self,
        name: str | None = None,
        *,
        with_latencies: bool = False,
        filled: bool = False,
        ladders: bool = False,
    ) -> list[StepResult]:
        """Return the newest result of each kind and fill level, drives by first measurement.

        Steps that measure nothing, such as a rest, are not among them; those on a drive that was
        filled on purpose only with `filled`. The rungs of a ladder are, with `ladders`, or where a
        drive has nothing else: many of them would outweigh all other steps.
        """
        # Rungs and steps of their own apart, the newest of each.
        rung = sa.case((LADDER.is_(None), 0), else_=1)
        level = (FILLED_LEVEL,) if filled else ()
        found = _newest(
            self._engine,
            (run.c.drive_id, step.c.kind, rung, *level),
            (of_drive(name),),
            with_latencies=with_latencies,
            filled=filled,
        )
        plain = {r.drive for r in found if r.findings.ladder is None}
        age = {key: n for n, key in enumerate(dict.fromkeys(r.run for r in found))}
        # Oldest first. Of one run a step of its own comes last, because it has more passes than a
        # rung of the same kind.
        found.sort(key=lambda r: (age[r.run], r.findings.ladder is None))
        latest = {
            (r.drive, r.kind, r.conditions.filled_percent): r
            for r in found
            if ladders or r.findings.ladder is None or r.drive not in plain
        }
        places = {d: i for i, d in enumerate(self.drives_in_order())}
        return sorted(latest.values(), key=lambda r: places[r.drive])

    def recent(
        self, name: str | None = None, most: int = RECENT_RESULTS, *, beyond: int = 0
    ) -> list[StepResult]:
        """Return the newest few results of each kind, oldest first, to compare repeated runs.

        Of drives that were not filled on purpose, and no rungs of ladders; without the newest
        `beyond` of each kind, for who has those.
        """
        return _newest(
            self._engine,
            (run.c.drive_id, step.c.kind),
            (of_drive(name), NO_RUNG),
            (beyond + 1, most),
        )

    def candidates(self, *, filled: bool = False) -> list[StepResult]:
        """Return the newest few results of each drive, sample, rig, link, firmware and kind.

        Oldest first, rungs of ladders apart from steps of their own.
        """
        rung = sa.case((LADDER.is_(None), 0), else_=1)
        where = (run.c.drive_id, run.c.unit_id, run.c.rig_id, LINK, FIRMWARE, step.c.kind, rung)
        level = (FILLED_LEVEL,) if filled else ()
        return _newest(self._engine, (*where, *level), (), (1, RECENT_RESULTS), filled=filled)

    def with_latencies(self, wanted: Sequence[StepResult]) -> list[StepResult]:
        """Return these results with their latencies, in their order."""
        if not wanted:
            return []
        ids = sa.tuple_(step.c.run_id, step.c.position)
        found: dict[tuple[str, int], StepResult] = {}
        places = [(r.run, r.position) for r in wanted]
        for begin in range(0, len(places), AT_ONCE):
            some = ids.in_(places[begin : begin + AT_ONCE])
            for r in results(self._engine, some, with_latencies=True):
                found[r.run, r.position] = r
        return [found.get((r.run, r.position), r) for r in wanted]

    def drives_in_order(self) -> list[str]:
        """Return the names of drives with results that count, the one measured first leading."""
        first = (
            sa.select(drive.c.name)
            .join(run, run.c.drive_id == drive.c.id)
            .join(step, step.c.run_id == run.c.id)
            .where(NOT_EXCLUDED, sa.exists().where(one_pass.c.step_id == step.c.id))
            .group_by(drive.c.id, drive.c.name)
            .order_by(sa.func.min(run.c.started))
        )
        with self._engine.connect() as c:
            return list(c.execute(first).scalars())

    def of_sample(
        self, sample_name: str, name: str | None = None, *, by: Callable[[StepResult], object]
    ) -> list[StepResult]:
        """Return the newest result of each kind for each value of `by`, for one sample.

        Raises
        ------
        UnknownNameError
            No sample of that name was measured.
        UsageError
            Samples of several drives have that name.
        """
        every = [
            r
            for r in self.every(name)
            if r.conditions.sample is not None and is_drive_result(r, filled=False)
        ]
        own = [r for r in every if r.conditions.sample == sample_name]
        if not own:
            raise UnknownNameError(
                "measured sample", sample_name, {str(r.conditions.sample) for r in every}
            )
        drives = list(dict.fromkeys(r.drive for r in own))
        if len(drives) > 1:
            raise UsageError(
                f"samples of {len(drives)} drives are called '{sample_name}': {', '.join(drives)}",
                "say which with --drive",
            )
        return list({(by(r), r.kind): r for r in own}.values())

    def passes(self, name: str | None = None, key: str | None = None) -> list[dict[str, Any]]:
        """Return every pass of a drive, of a run or of all, without series, oldest first."""
        where = of_drive(name) if key is None else sa.and_(of_drive(name), run.c.id == key)
        return passes(self._engine, where)

    def copied(self, name: str | None = None) -> list[str]:
        """Return the phrase of each copy that a drive (or any) was measured with, once."""
        return copied(self._engine, of_drive(name))
