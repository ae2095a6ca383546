"""Results found on a shelf.

How rows become records, and which of many is the newest of its kind.
"""

from __future__ import annotations

import contextlib
import datetime
import logging
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from jovik.analysis.step_result import StepResult
from jovik.analysis.temperature import stuck_sensors
from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.trace import Latencies, Trace
from jovik.shelf.reader import ALWAYS, Reader, Row, Sql, all_of, among
from jovik.shelf.records import DamagedRecord, naming, read_phrase
from jovik.shelf.run_records import (
    PASS_FIELDS,
    figures_from,
    read_findings,
    read_latencies,
    read_step,
    read_trace,
)
from jovik.steps import CopyStep

log = logging.getLogger(__name__)

CLOCK_TOLERANCE = datetime.timedelta(hours=1)
"""How far a clock may be ahead before its date is not believed."""


LADDER = "step.facts ->> 'ladder'"
"""The phrase of the sweep that a step is a point of."""
FILLED_LEVEL = "step.conditions ->> 'filled_percent'"
"""The level that a step was made at on purpose."""
LINK, FIRMWARE = "step.conditions ->> 'link'", "step.conditions ->> 'firmware'"
RUNG = f"CASE WHEN {LADDER} IS NULL THEN 0 ELSE 1 END"


def _nothing_in(value: str) -> Sql:
    """Return the condition that a value in a JSON column is not there, as one that is often true.

    A database knows nothing of what is in such a column. PostgreSQL takes it that one row of two
    hundred has nothing there, of two such conditions that no row is left, and then joins 40,000
    steps with 200 drives by looking at every pair.
    """
    return Sql(f"CASE WHEN {value} IS NULL THEN TRUE ELSE FALSE END")


NOT_EXCLUDED = Sql("run.excluded IS NULL AND step.excluded IS NULL")
"""That a step was not excluded, nor its run."""
STEPS = """
FROM step JOIN run ON step.run_id = run.id JOIN drive ON run.drive_id = drive.id"""
"""Steps with their run and drive."""
PASSES = f"{STEPS} JOIN pass ON pass.step_id = step.id"
HAS_PASSES = Sql("EXISTS (SELECT 1 FROM pass WHERE pass.step_id = step.id)")


def of_drive(name: str | None) -> Sql:
    """Return the condition that the drive has this name, if one is given, in any case."""
    return Sql("drive.folded_name = ?", (name.strip().casefold(),)) if name is not None else ALWAYS


AT_ONCE = 500
"""Steps whose passes are asked for at once: so few that a database looks them up, and does not look
through all that there are."""


def results(reader: Reader, where: Sql, *, with_latencies: bool) -> list[StepResult]:
    """Return every step that has passes, oldest run first, steps in their order.

    `where` is about drive, run and step.
    """
    steps = (
        f"SELECT step.*, drive.name AS drive_name, run.excluded AS run_excluded {STEPS} WHERE "
        + where
        + " ORDER BY "
        + order_of(reader)
        + ", run.id, step.position"
    )
    wanted = ", ".join(("step_id", *PASS_FIELDS, *(["latencies"] if with_latencies else [])))
    with reader.reading() as r:
        rows = r.rows(steps)
        # Of a shelf with a million passes tuples are read in half the time of mappings.
        by_step: dict[int, list[Sequence[Any]]] = {}
        for begin in range(0, len(rows), AT_ONCE):
            keys = among("step_id", [row["id"] for row in rows[begin : begin + AT_ONCE]])
            passes = f"SELECT {wanted} FROM pass WHERE " + keys + " ORDER BY step_id, number"
            for p in r.tuples(passes):
                by_step.setdefault(p[0], []).append(p)
    results = []
    for row in rows:
        if row["id"] in by_step:
            with contextlib.suppress(DamagedRecord), naming(_at(row)):
                results.append(_result(row, by_step[row["id"]], with_latencies))
    return results


MOST_NAMED = 10_000
"""Steps that a query names one by one. Databases have a limit."""


def _among(reader: Reader, chosen: Sql) -> Sql:
    """Return the condition that a step is one of these.

    They are picked once here, not in every query that asks for them: picking is what takes long.
    """
    with reader.reading() as r:
        keys = r.column(chosen + f" LIMIT {MOST_NAMED + 1}")
    return among("step.id", keys) if len(keys) <= MOST_NAMED else "step.id IN (" + chosen + ")"


def _result(row: Row, passes: Sequence[Sequence[Any]], with_latencies: bool) -> StepResult:
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
    return read_step(row, [figures_from(p[1:last]) for p in passes], latencies)


def is_drive_result(result: StepResult, filled: bool) -> bool:
    """Return True if a result is a figure of the drive, unfilled unless `filled` is set."""
    return result.step.ranked and (filled or result.conditions.filled_percent is None)


def traces(reader: Reader, where: Sql) -> Iterator[tuple[Row, Trace]]:
    """Yield passes with their series, in order and one at a time.

    Damaged ones are left out and named.

    `where` is about step and run. Each comes with its row, which has `position` and `whole`.
    """
    query = (
        "SELECT pass.*, step.run_id, step.position, step.finished AS whole, step.conditions "
        "FROM pass JOIN step ON pass.step_id = step.id WHERE "
        + where
        + " ORDER BY step.position, pass.number"
    )
    with reader.reading() as r:
        for row in r.stream(query):
            at = f"{_at(row)}, pass {row['number']}"
            trace = None
            with contextlib.suppress(DamagedRecord), naming(at):
                trace = read_trace(row)
            if trace is not None:
                yield row, trace


def _at(row: Row) -> str:
    return f"run {row['run_id']}, step {row['position'] + 1}"


def order_of(reader: Reader) -> Sql:
    """Return the order of runs: by their start, as far as their clocks are credible.

    A run that says that it started in the future comes where it arrived: right after the last
    one before it whose date can be true.
    """
    now = (datetime.datetime.now(datetime.UTC) + CLOCK_TOLERANCE).strftime("%Y-%m-%dT%H:%M:%SZ")
    places = Sql("")
    with reader.reading() as r:
        late = r.tuples("SELECT id, started, arrival FROM run WHERE started > ?", now)
        for key, started, arrival in late:
            log.warning(
                "run %s is dated %s, in the future: its clock was wrong, and it is taken in the "
                "order in which it arrived",
                key,
                started[:10],
            )
            before = "SELECT max(started) FROM run WHERE started <= ? AND arrival < ?"
            (last,) = r.column(before, now, arrival or 0)
            # "~" comes after whatever stands in a date.
            places += Sql(" WHEN run.id = ? THEN ?", (key, f"{last}~" if last else ""))
    return "CASE" + places + " ELSE run.started END" if late else Sql("run.started")


def _newest(
    reader: Reader,
    partition: Sequence[str],
    where: Sql,
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
    where = all_of(NOT_EXCLUDED, HAS_PASSES, where, ALWAYS if filled else _nothing_in(FILLED_LEVEL))
    chosen = (
        "SELECT id FROM (SELECT step.id AS id, row_number() OVER ("
        f"PARTITION BY {', '.join(partition)} ORDER BY "
        + order_of(reader)
        + f" DESC, run.id DESC, step.position DESC) AS place {STEPS} WHERE "
        + where
        + Sql(") AS numbered WHERE place BETWEEN ? AND ?", numbers)
    )
    return [
        r
        for r in results(reader, _among(reader, chosen), with_latencies=with_latencies)
        if is_drive_result(r, filled)
    ]


RECENT_RESULTS = 3
"""Results of a kind that determine the differences between runs of a drive."""


class Results:
    """The results of an open shelf."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader

    def every(self, name: str | None = None, *, with_latencies: bool = False) -> list[StepResult]:
        """Return each counted step with passes of a drive, or of all, oldest first.

        A step or a run that was excluded does not count.
        """
        where = all_of(of_drive(name), NOT_EXCLUDED)
        return results(self._reader, where, with_latencies=with_latencies)

    def stuck_sensors(self, serial_hash: str) -> frozenset[str]:
        """Return the temperature sensors of a sample that never moved in an earlier run."""
        query = (
            "SELECT drive.name, unit.name FROM drive JOIN unit ON unit.drive_id = drive.id "
            "WHERE unit.serial_hash = ?"
        )
        with self._reader.reading() as r:
            samples = r.tuples(query, serial_hash)
        return frozenset().union(*(stuck_sensors(self.every(n), s) for n, s in samples))

    def of_run(self, key: str, *, counted: bool = False) -> list[StepResult]:
        """Return every step of a run that has passes, in order.

        `counted` leaves exclusions out.
        """
        where = all_of(Sql("run.id = ?", (key,)), NOT_EXCLUDED if counted else ALWAYS)
        return results(self._reader, where, with_latencies=True)

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
        level = (FILLED_LEVEL,) if filled else ()
        found = _newest(
            self._reader,
            ("run.drive_id", "step.kind", RUNG, *level),
            of_drive(name),
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
            self._reader,
            ("run.drive_id", "step.kind"),
            all_of(of_drive(name), _nothing_in(LADDER)),
            (beyond + 1, most),
        )

    def candidates(self, *, filled: bool = False) -> list[StepResult]:
        """Return the newest few results of each drive, sample, rig, link, firmware and kind.

        Oldest first, rungs of ladders apart from steps of their own.
        """
        of = ("run.drive_id", "run.unit_id", "run.rig_id", LINK, FIRMWARE, "step.kind", RUNG)
        level = (FILLED_LEVEL,) if filled else ()
        return _newest(self._reader, (*of, *level), ALWAYS, (1, RECENT_RESULTS), filled=filled)

    def with_latencies(self, wanted: Sequence[StepResult]) -> list[StepResult]:
        """Return these results with their latencies, in their order."""
        if not wanted:
            return []
        found: dict[tuple[str, int], StepResult] = {}
        places = [(r.run, r.position) for r in wanted]
        for begin in range(0, len(places), AT_ONCE):
            some = places[begin : begin + AT_ONCE]
            named = f"(step.run_id, step.position) IN (VALUES {', '.join(['(?, ?)'] * len(some))})"
            where = Sql(named, tuple(x for place in some for x in place))
            for r in results(self._reader, where, with_latencies=True):
                found[r.run, r.position] = r
        return [found.get((r.run, r.position), r) for r in wanted]

    def drives_in_order(self) -> list[str]:
        """Return the names of drives with results that count, the one measured first leading."""
        first = (
            f"SELECT drive.name {STEPS} WHERE "
            + all_of(NOT_EXCLUDED, HAS_PASSES)
            + " GROUP BY drive.id, drive.name ORDER BY min(run.started)"
        )
        with self._reader.reading() as r:
            return r.column(first)

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
        fields = ", ".join(f"pass.{f}" for f in ("number", "finished", "seed", "flush_ns"))
        figures = ", ".join(f"pass.{f}" for f in PASS_FIELDS)
        of_run = Sql("run.id = ?", (key,)) if key is not None else ALWAYS
        query = (
            "SELECT drive.name AS drive, step.run_id AS run, step.position, step.phrase, step.kind,"
            f" coalesce(run.excluded, step.excluded) AS excluded, {fields}, {figures} {PASSES}"
            " WHERE "
            + all_of(of_drive(name), of_run)
            + " ORDER BY "
            + order_of(self._reader)
            + ", run.id, step.position, pass.number"
        )
        with self._reader.reading() as r:
            return r.rows(query)

    def copied(self, name: str | None = None) -> list[str]:
        """Return the phrase of each copy that a drive (or any) was measured with, once."""
        where = all_of(of_drive(name), Sql("step.kind LIKE ?", (f"{CopyStep.word}%",)))
        results = []
        with self._reader.reading() as r:
            for phrase in r.column(f"SELECT DISTINCT step.phrase {STEPS} WHERE " + where):
                with contextlib.suppress(DamagedRecord), naming(f"the phrase '{phrase}'"):
                    results.append(read_phrase(phrase).canonical)
        return results
