"""Findings that combine the steps of a run.

Ladders, long writes, access times, empty against full, copies.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.comparability import rate_of, series_to_show, steady_step
from jovik.analysis.fullness import (
    CacheComparison,
    FillComparison,
    caches_against_full,
    empty_against_full,
)
from jovik.analysis.ladder import Ladder, ladders_in
from jovik.analysis.step_result import StepResult
from jovik.base.findings import Level, Shape
from jovik.base.interval import Interval
from jovik.base.quantities import show_size, show_time, show_time_or_dash, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.steps import CopyStep, IoStep, Step, parse
from jovik.tables.drive_faults import failed_table
from jovik.tables.replay import replays_table
from jovik.tables.steady_state import steady_tables
from jovik.tables.table import Table, interval_json, interval_words
from jovik.tables.wear import wear_table


def findings_tables(results: Sequence[StepResult]) -> list[Table]:
    """Return every table that these results give rise to."""
    tables = steady_tables(results)
    # A ladder of rungs that were repeated until steady is in those.
    fresh = [r for r in results if not steady_step(r)]
    tables += [ladder_table(curve) for curve in ladders_in(fresh)]
    tables += [
        long_write_table(number, result)
        for number, result in enumerate(results, 1)
        if series_to_show(result) is not None
    ]
    tables += [
        failed_table(results),
        replays_table(results),
        access_table(results),
        copies_table(results),
        fullness_table(empty_against_full(results)),
        cache_table(caches_against_full(results)),
        wear_table(results),
    ]
    return [t for t in tables if t.rows]


def in_a_ladder(result: StepResult) -> bool:
    """Return True if a ladder's own table shows this result."""
    return result.findings.ladder is not None


def ladder_table(curve: Ladder) -> Table:
    """Return a ladder rung by rung, with its best and its knee."""
    rows = []
    for rung in curve.rungs:
        latency = all_latencies_ns(rung.result)
        mark = "best" if rung.value in curve.best else "knee" if rung.value == curve.knee else ""
        rows.append(
            (
                curve.spell(rung.value),
                significant(rung.rate_bytes_s.median * per_unit()),
                interval_words(rung.rate_bytes_s, per_unit()),
                significant(rung.iops.median),
                show_time_or_dash(latency["p50"] if latency else None),
                show_time_or_dash(latency["p99"] if latency else None),
                mark,
            )
        )
    return Table(
        curve.label,
        [curve.name, rate_unit(), "95 % interval", "IOPS", "p50", "p99", ""],
        rows,
        right=(0, 1, 2, 3, 4, 5),
        optional_columns=(4, 5),
        notes=[curve.words()],
    )


def long_write_table(number: int | None, result: StepResult) -> Table:
    """Return the steady parts of a long write or a copy. `number` is the step's in its run."""
    written = result.findings.long_write
    step = result.step
    assert written is not None
    # A random write is read in I/Os a second, a stream in bytes.
    random = isinstance(step, IoStep) and step.random
    scale, unit = (1 / written.block_bytes, "IOPS") if random else (per_unit(), rate_unit())
    rows = []
    for part in written.parts:
        rate = part.rate_bytes_s
        rows.append(
            (
                show_size(part.start_bytes) if part.start_bytes else "0",
                show_size(part.end_bytes),
                show_time((part.end_s - part.start_s) * 1e9),
                significant(rate.median * scale),
                interval_words(rate, scale),
                f"{100 * part.spread:.1f} %",
                _shape_words(part, scale),
            )
        )
    title = f"step {number}: {step.label}" if number is not None else step.label
    return Table(
        title,
        ["from", "to", "duration", unit, "95 % interval", "CV", "shape"],
        rows,
        right=(0, 1, 2, 3, 4, 5),
        optional_columns=(5,),
        notes=["the interval is of the mean within this one pass"],
    )


def _shape_words(part: Level, scale: float) -> str:
    """Return the trend of the rate within a part, in the part's unit."""
    if part.from_bytes_s is None or part.to_bytes_s is None:
        return "level"
    one, two = significant(part.from_bytes_s * scale), significant(part.to_bytes_s * scale)
    if part.shape is Shape.ALTERNATING and part.period_s is not None:
        return f"{one} / {two} every {show_time(part.period_s * 1e9)}"
    return f"{one} to {two}"


def _plain_single(step: Step) -> bool:
    return (
        isinstance(step, IoStep)
        and step.depth == step.workers == 1
        and step.random
        and not (step.rate_bytes_s or step.rate_iops or step.steady)
    )


SHOWN_LATENCIES = ("mean", "p50", "p95", "p99", "p99_9", "max")


def access_table(results: Sequence[StepResult]) -> Table:
    """Return the access time of small random I/O at depth 1, its mean, and its percentiles."""
    rows = []
    for result in results:
        step, latency = result.step, all_latencies_ns(result)
        if (
            latency is None
            or not _plain_single(step)
            or in_a_ladder(result)
            or result.conditions.filled_percent is not None
        ):
            continue
        rows.append(
            (
                step.label,
                *(show_time_or_dash(latency[k]) for k in SHOWN_LATENCIES),
            )
        )
    return Table(
        "Access time, one at a time",
        ["step", "access time", "p50", "p95", "p99", "p99.9", "max"],
        rows,
        right=(1, 2, 3, 4, 5, 6),
        optional_columns=(3, 2),
    )


def copies_table(results: Sequence[StepResult]) -> Table:
    """Return copies of files, as percentages of the sequential rate."""
    rows = []
    bases: dict[str, None] = {}
    for result in results:
        copied = result.findings.copy
        if copied is None:
            continue
        rate = rate_of(result)
        share = copied.of_sequential
        if copied.sequential is not None:
            bases[parse(copied.sequential).label] = None
        full = (
            f", filled to {result.conditions.filled_percent} %"
            if result.conditions.filled_percent is not None
            else ""
        )
        rows.append(
            (
                result.step.label + full,
                significant(rate.median * per_unit()),
                interval_words(rate, per_unit()),
                show_time(copied.seconds * 1e9),
                f"{copied.files:,}",
                show_size(copied.bytes),
                significant(copied.files_s),
                significant(copied.slowest_second_bytes_s * per_unit())
                if copied.slowest_second_bytes_s is not None
                else "-",
                f"{100 * copied.slow_share:.0f} %" if copied.slow_share is not None else "-",
                f"{100 * share:.0f} %" if share else "-",
            )
        )
    return Table(
        "Copies",
        [
            "step",
            rate_unit(),
            "95 % interval",
            "duration",
            "files",
            "size",
            "files/s",
            "slowest second",
            "slow time",
            "% of sequential",
        ],
        rows,
        right=(1, 2, 3, 4, 5, 6, 7, 8, 9),
        optional_columns=(6, 8, 7, 5, 4),
        notes=[
            f"slowest second: {rate_unit()} of the slowest whole second; slow time: the "
            "percentage of "
            "seconds with under half of its best level",
            "buffered (page cache), from a cold start to the end of the sync, "
            "as a user waits for it",
            f"sequential: {'; '.join(bases)}" if bases else "",
        ],
    )


def fullness_table(pairs: Sequence[FillComparison]) -> Table:
    """Return steps on the empty drive against the same nearly full."""
    rows = [
        (
            parse(p.kind).label,
            f"{p.filled_percent} %",
            significant(p.empty.median * per_unit()),
            significant(p.full.median * per_unit()),
            f"{100 * p.share.median:.0f} %",
            interval_words(p.share, 100) + (" %" if p.share.known else ""),
            p.verdict,
        )
        for p in pairs
    ]
    return Table(
        "Empty against full",
        [
            "step",
            "filled to",
            f"{rate_unit()} empty",
            f"{rate_unit()} full",
            "full/empty",
            "95 % interval",
            "",
        ],
        rows,
        right=(1, 2, 3, 4, 5),
        optional_columns=(1,),
    )


def cache_table(pairs: Sequence[CacheComparison]) -> Table:
    """Return the write cache of the empty drive against that of the same nearly full."""
    rows = []
    for pair in pairs:
        for words, write in (("empty", pair.empty), (f"{pair.filled_percent} %", pair.full)):
            behind = write.sustained if isinstance(write.sustained, Interval) else None
            rows.append(
                (
                    words,
                    show_size(write.total_bytes),
                    show_size(write.cliff.at_bytes) if write.cliff else "no cliff",
                    significant(
                        (
                            write.cliff.before_bytes_s
                            if write.cliff
                            else write.parts[0].rate_bytes_s.median
                        )
                        * per_unit()
                    ),
                    significant(behind.median * per_unit()) if behind else "-",
                    interval_words(behind, per_unit()) if behind else str(write.sustained),
                )
            )
    return Table(
        "Write cache, empty against full",
        [
            "filled to",
            "written",
            "cache ends",
            f"{rate_unit()} before",
            f"{rate_unit()} sustained",
            "95 % interval",
        ],
        rows,
        right=(0, 1, 2, 3, 4, 5),
        optional_columns=(1,),
        notes=[pair.words for pair in pairs if pair.words],
    )


def is_copy(result: StepResult) -> bool:
    """Return True if a result is of real files, which have a table of their own."""
    return isinstance(result.step, CopyStep)


def ladder_json(curve: Ladder) -> dict[str, Any]:
    """Return a sweep as documented."""
    points = [
        {
            "value": r.value,
            "rate_bytes_s": interval_json(r.rate_bytes_s),
            "iops": interval_json(r.iops),
            "phrase": r.result.phrase,
        }
        for r in curve.rungs
    ]
    return {
        "axis": curve.axis,
        "label": curve.label,
        "knee": curve.knee,
        "best": curve.best[0] if curve.best else None,
        "best_all": list(curve.best),
        "points": points,
    }


def fill_json(pair: FillComparison) -> dict[str, Any]:
    """Return one kind of step, empty against full, as documented."""
    return {
        "kind": pair.kind,
        "filled_percent": pair.filled_percent,
        "empty_bytes_s": interval_json(pair.empty),
        "full_bytes_s": interval_json(pair.full),
        "share": interval_json(pair.share),
    }
