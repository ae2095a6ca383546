"""Steps of a run, as they were measured."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.comparability import (
    copy_cliff,
    crossed_cliff,
    long_write_of,
    rate_of,
    steady_step,
)
from jovik.analysis.ladder import ladders_in
from jovik.analysis.limits import disturbance_words
from jovik.analysis.long_write_notes import fall_note
from jovik.analysis.lost_data import lost_by, lost_words
from jovik.analysis.statistics import interval
from jovik.analysis.step_result import Conditions, StepResult
from jovik.base.findings import Disturbance
from jovik.base.interval import Interval
from jovik.base.plain_data import plain
from jovik.base.quantities import in_rate_unit, show_rate, show_size, show_time_or_dash, significant
from jovik.base.rate_unit import iops_first, per_unit, rate_unit
from jovik.shelf.runs import RunRecord
from jovik.steps import IoStep, parse
from jovik.tables.run_findings import in_a_ladder, is_copy
from jovik.tables.table import Table, interval_json, interval_words
from jovik.tables.wake import wake_lines


def speed_table(results: Sequence[StepResult]) -> Table:
    """Return the plain accesses of a drive, without rungs of ladders and long writes."""
    rows = []
    for r in results:
        step = parse(r.kind)
        if (
            not isinstance(step, IoStep)
            or not r.passes
            or long_write_of(r) is not None
            or in_a_ladder(r)
        ):
            continue
        rate = r.rate
        iops = r.iops
        short = all_latencies_ns(r) or {}
        rows.append(
            (
                step.label,
                significant(rate.median * per_unit()),
                interval_words(rate, per_unit()),
                significant(iops.median),
                show_time_or_dash(short.get("p50")),
                show_time_or_dash(short.get("p99")),
                str(len(r.passes)),
            )
        )
    header = ["step", rate_unit(), "95 % interval", "IOPS", "p50", "p99", "passes"]
    return Table("Speed", header, rows, right=(1, 3, 4, 5, 6))


def run_table(
    run: RunRecord,
    results: Sequence[StepResult],
    *,
    every_note: bool = False,
    capacity_bytes: int | None = None,
) -> Table:
    """Return each step of a run but those that a curve shows, which has a table of its own.

    Below it what a reader should know; with `every_note` what disturbed each step too.
    `capacity_bytes` is what the drive's sheet says, for one that holds less.
    """
    # A sweep of two, or over what is no axis, makes no curve: its steps stand here.
    drawn = {
        id(p.result) for curve in ladders_in(results) for p in curve.rungs if in_a_ladder(p.result)
    }
    # What was repeated until steady has a table of its own, too.
    shown = [(n, r) for n, r in enumerate(results, 1) if id(r) not in drawn and not steady_step(r)]
    effort = _effort([r for _, r in shown])
    rows = [[*_row(n, r), *more] for (n, r), more in zip(shown, effort.cells, strict=True)]
    measured = [r for r in results if r.step.measures]
    conditions = first_access(measured)
    engines = ", ".join(dict.fromkeys(r.conditions.engine for r in measured))
    how = (
        f"engine: {engines}, {'direct' if conditions.direct else 'not direct'}; rig: "
        f"{conditions.rig or run.rig}; "
        if conditions
        else ""
    )
    lines = [
        *_cliffs(results),
        *disturbance_lines(results, each=every_note),
        *_said(results, deciding=True),
        *wake_lines(results),
        *(f"the drive's log: {note}" for note in run.notes or []),
        *_excluded(run, results),
    ]
    small = [*(x for x in _said(results) if x not in lines), *_warmth(results)]
    small.append(f"{how}written: {show_size(written_bytes(run, results))}; run {run.id}")
    header = ["", "step", *_figure_heads(), "p50", "p99", "passes", *effort.heads]
    lost = lost_by(results)
    size = capacity_bytes or (run.device or {}).get("capacity_bytes")
    words = f": {lost_words(lost, size)}" if lost is not None else ""
    return Table(
        f"{run.drive}{words or f': {run.plan}'}",
        header,
        rows,
        right=(0, *range(2, len(header))),
        optional_columns=(*range(len(header) - 1, 7, -1), 7, 5, 6),
        notes=lines,
        small=small,
    )


@dataclass(frozen=True)
class _Effort:
    """Columns of a step beside time: temperature and processor.

    Columns that nothing tells anything in are left out.
    """

    heads: tuple[str, ...]
    cells: tuple[tuple[str, ...], ...]


def _effort(results: Sequence[StepResult]) -> _Effort:
    columns = {"°C": _temperature, "CPU": _cpu_share, "CPU/IO": _cpu_words}
    values = {name: [tell(r) for r in results] for name, tell in columns.items()}
    heads = tuple(name for name, cells in values.items() if any(c not in ("", "-") for c in cells))
    cells = zip(*(values[name] for name in heads), strict=True) if heads else [()] * len(results)
    return _Effort(heads, tuple(map(tuple, cells)))


def _temperature(r: StepResult) -> str:
    """At the start and at most, ``31-44``."""
    temperature = r.findings.temperature
    if temperature is None:
        return "-" if r.step.measures else ""
    return f"{temperature.start_c:.0f}-{temperature.peak_c:.0f}"


def _cpu_share(r: StepResult) -> str:
    """Processor time of the measuring loop as percent of one core."""
    elapsed = sum(p.elapsed_ns for p in r.passes)
    used = sum(p.cpu_ns for p in r.passes)
    none = "-" if r.step.measures else ""
    return f"{100 * used / elapsed:.0f} %" if elapsed and used else none


def _cpu_words(r: StepResult) -> str:
    """Processor time for an I/O."""
    per_io = _cpu_per_io(r)
    none = "-" if r.step.measures else ""
    return show_time_or_dash(per_io) if per_io and not is_copy(r) else none


def spread_table(results: Sequence[StepResult]) -> Table:
    """Return how far the passes of each step lie apart."""
    rows = []
    for number, r in enumerate(results, 1):
        spread = spread_of(r)
        if spread is None or not r.step.measures:
            continue
        low, middle, high = (
            significant(x * per_unit()) for x in (spread["min"], r.rate.median, spread["max"])
        )
        cv = f"{100 * spread['cv']:.1f} %"
        rows.append((str(number), r.step.label, str(len(r.passes)), low, middle, high, cv))
    return Table(
        f"Spread of the passes, {rate_unit()}",
        ["", "step", "passes", "minimum", "median", "maximum", "CV"],
        rows,
        right=(0, 2, 3, 4, 5, 6),
        notes=["CV: standard deviation over mean"],
    )


def spread_of(r: StepResult) -> dict[str, float] | None:
    """Return minimum, maximum and coefficient of variation of the passes, or None for one."""
    rates = [p.rate_bytes_s for p in r.passes]
    mean = statistics.fmean(rates) if rates else 0.0
    if len(rates) < 2 or mean <= 0:
        return None
    return {"min": min(rates), "max": max(rates), "cv": statistics.stdev(rates) / mean}


def passes_table(results: Sequence[StepResult]) -> Table:
    """Return each pass of each step."""
    rows = []
    for number, r in enumerate(results, 1):
        if not r.step.measures:
            continue
        for n, p in enumerate(r.passes, 1):
            rows.append(
                (
                    str(number) if n == 1 else "",
                    r.step.label if n == 1 else "",
                    str(n),
                    significant(p.rate_bytes_s * per_unit(), 4),
                    significant(p.flushed_rate_bytes_s * per_unit(), 4),
                    significant(p.iops, 4),
                    show_time_or_dash(p.elapsed_ns),
                    f"{p.errors:,}" if p.errors else "-",
                )
            )
    unit = rate_unit()
    return Table(
        "Passes",
        ["", "step", "pass", unit, f"{unit} with flush", "IOPS", "duration", "errors"],
        rows,
        right=(0, 2, 3, 4, 5, 6, 7),
        optional_columns=(7, 6, 4),
    )


def disturbance_lines(results: Sequence[StepResult], *, each: bool = False) -> list[str]:
    """Return other activity during a run, in one line for all of it, or one for each step."""
    if each:
        return [
            f"step {number}: {disturbance_words(d.sort, d.worst, d.amount_bytes)}, "
            f"{d.passes} {'pass' if d.passes == 1 else 'passes'}"
            for number, r in enumerate(results, 1)
            for d in r.findings.disturbed
        ]
    worst: dict[Disturbance, tuple[float, int, list[int]]] = {}
    for number, r in enumerate(results, 1):
        for d in r.findings.disturbed:
            share, amount, steps = worst.get(d.sort, (0.0, 0, []))
            worst[d.sort] = (max(share, d.worst), amount + (d.amount_bytes or 0), [*steps, number])
    if not worst:
        return []
    count = sum(r.step.measures for r in results)
    causes = [
        disturbance_words(sort, share, amount or None)
        + ("" if len(steps) == count else f" (step{'s' * (len(steps) > 1)} {_ranges(steps)})")
        for sort, (share, amount, steps) in worst.items()
    ]
    return [
        f"the machine was not idle: {'; '.join(causes)}; repeat when it is "
        "(jovik runs show last --every-note)"
    ]


def written_bytes(run: RunRecord, results: Sequence[StepResult]) -> int:
    """Return all that a run wrote: laid out and measured."""
    return run.laid_out_bytes + sum(p.written_bytes for r in results for p in r.passes)


def first_access(results: Sequence[StepResult]) -> Conditions | None:
    """Return the conditions that speak for a run.

    A copy goes through the cache on any target, and says nothing of the others.
    """
    return next(
        (r.conditions for r in results if not is_copy(r)),
        results[0].conditions if results else None,
    )


def _cliffs(results: Sequence[StepResult]) -> list[str]:
    """Return where long writes fall and stay down."""
    lines = []
    for number, r in enumerate(results, 1):
        written = long_write_of(r)
        if written is not None and written.cliff is not None:
            step = r.step
            ios = isinstance(step, IoStep) and step.random
            lines.append(f"step {number}: {fall_note(written, written.cliff, ios=ios)}")
    return lines


def _said(results: Sequence[StepResult], *, deciding: bool = False) -> list[str]:
    """Return notes, limits and errors, each once with the numbers of its steps.

    Parameters
    ----------
    deciding : bool
        Only what changes a decision: limits and errors.
    """
    steps_of: dict[str, list[int]] = {}
    for number, r in enumerate(results, 1):
        lines = [
            *(() if deciding else map(in_rate_unit, r.notes)),
            *(
                f"limited by the {x.what} ({in_rate_unit(x.note)}), {show_rate(x.rate_bytes_s)}"
                for x in r.limits
            ),
        ]
        lines += [f"{r.errors} error{'s' if r.errors > 1 else ''}"] if r.errors else []
        for note in lines:
            steps_of.setdefault(note, []).append(number)
    count = sum(r.step.measures for r in results)
    return [_note_line(note, steps, count) for note, steps in steps_of.items()]


def _excluded(run: RunRecord, results: Sequence[StepResult]) -> list[str]:
    """Return that a run, or a step of it, was excluded, with the reason."""
    if run.excluded is not None:
        return [f"excluded, in no verdict, ranking or page: {run.excluded}"]
    return [
        f"step {n}: excluded, in no verdict, ranking or page: {r.excluded}"
        for n, r in enumerate(results, 1)
        if r.excluded is not None
    ]


def _row(number: int, r: StepResult) -> list[str]:
    step = r.step
    if not step.measures:
        return [str(number), step.label, "", "", "", "", "", ""]
    rate, iops, latency = (
        rate_of(r) if r.findings.scan is not None or is_copy(r) else r.rate,
        r.iops,
        all_latencies_ns(r),
    )
    full = (
        f", filled to {r.conditions.filled_percent} %"
        if r.conditions.filled_percent is not None
        else ""
    )
    return [
        str(number),
        step.label + full + _shape_words(r),
        *_figures(rate, iops if not is_copy(r) else None),
        show_time_or_dash(latency["p50"] if latency else None),
        show_time_or_dash(latency["p99"] if latency else None),
        str(len(r.passes)),
    ]


def _figures(rate: Interval, iops: Interval | None) -> tuple[str, str, str]:
    """Return rate and IOPS in the chosen order. The interval is that of the first."""
    shown = significant(rate.median * per_unit())
    ios = significant(iops.median) if iops is not None else "-"
    if iops_first():
        return ios, interval_words(iops) if iops is not None else "-", shown
    return shown, interval_words(rate, per_unit()), ios


def _figure_heads() -> tuple[str, str, str]:
    """Return the heads of these columns."""
    first, second = ("IOPS", rate_unit()) if iops_first() else (rate_unit(), "IOPS")
    return first, "95 % interval", second


def _warmth(results: Sequence[StepResult]) -> list[str]:
    """Return how warm the drive was and became, in one line for the run."""
    warm = [
        (r.findings.temperature.peak_c, n)
        for n, r in enumerate(results, 1)
        if r.findings.temperature is not None
    ]
    if not warm:
        return []
    first = next(t.start_c for r in results if (t := r.findings.temperature) is not None)
    peak, at = max(warm)
    return [
        f"temperature: {first:.0f} °C at the start, {peak:.0f} °C at most"
        + (f" (step {at})" if len(results) > 1 else "")
    ]


def _note_line(note: str, steps: list[int], count: int) -> str:
    if len(steps) == count:
        return f"every step: {note}" if count > 1 else note
    return f"step{'s' if len(steps) > 1 else ''} {_ranges(steps)}: {note}"


def _ranges(numbers: list[int]) -> str:
    """``1-7, 9``."""
    parts: list[list[int]] = []
    for number in numbers:
        if parts and number == parts[-1][-1] + 1:
            parts[-1].append(number)
        else:
            parts.append([number])
    return ", ".join(
        f"{p[0]}" if len(p) == 1 else f"{p[0]}{', ' if len(p) == 2 else '-'}{p[-1]}" for p in parts
    )


def step_json(result: StepResult) -> dict[str, Any]:
    """Return one step as documented."""
    latency = all_latencies_ns(result)
    return {
        "phrase": result.phrase,
        "kind": result.kind,
        "passes": len(result.passes),
        "each_pass": [asdict(p) for p in result.passes],
        "errors": result.errors,
        "rate_bytes_s": interval_json(result.rate),
        "flushed_rate_bytes_s": interval_json(
            interval([p.flushed_rate_bytes_s for p in result.passes])
        ),
        "iops": interval_json(result.iops),
        "spread": spread_of(result),
        "latency_ns": latency,
        "read_bytes": sum(p.read_bytes for p in result.passes),
        "written_bytes": sum(p.written_bytes for p in result.passes),
        "cpu_ns_per_io": _cpu_per_io(result),
        "conditions": asdict(result.conditions) | {"unit": result.conditions.sample},
        "cliff": _cliff(result),
        "facts": plain(result.findings),
        "limits": [
            {"what": x.what, "rate_bytes_s": x.rate_bytes_s, "note": x.note} for x in result.limits
        ],
        "notes": list(result.notes),
        "excluded": result.excluded,
    }


def _shape_words(r: StepResult) -> str:
    """Return which of its rates the figure of a write is, if it has several."""
    if long_write_of(r) is not None:
        return ", whole write"
    if r.findings.scan is not None and r.conditions.span_bytes:
        read = sum(p.read_bytes for p in r.passes) / r.conditions.span_bytes
        return f", {significant(100 * min(read, 1.0), 2)} % of it read"
    fell = crossed_cliff(r) or copy_cliff(r)
    if fell is None:
        return ""
    before, after = (significant(x * per_unit()) for x in (fell.before_bytes_s, fell.after_bytes_s))
    return f": {before} until {show_size(fell.at_bytes)}, then {after} {rate_unit()}"


def _cliff(result: StepResult) -> dict[str, Any] | None:
    """Return where a write fell first. The facts contain the rest."""
    written = long_write_of(result)
    cliff = written.cliff if written is not None else crossed_cliff(result)
    return asdict(cliff) if cliff is not None else None


def _cpu_per_io(result: StepResult) -> float | None:
    ios = sum(p.iops * p.elapsed_ns / 1e9 for p in result.passes)
    return sum(p.cpu_ns for p in result.passes) / ios if ios else None
