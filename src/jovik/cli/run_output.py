"""Step results as a table, as JSON (docs/json.md) and as CSV: the output of `measure`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, replace
from typing import Any

from jovik.analysis.comparability import rate_of, steady_step
from jovik.analysis.drive_faults import fault_words, faults_of
from jovik.analysis.fullness import empty_against_full
from jovik.analysis.ladder import ladders_in
from jovik.analysis.step_result import StepResult
from jovik.analysis.wake import wake_costs
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table
from jovik.queries.drive_class import overall_of
from jovik.sheets.sheet import Drive
from jovik.shelf.runs import RunRecord
from jovik.tables.drive_class import standing_json, standing_lines
from jovik.tables.replay import replay_lines
from jovik.tables.run_findings import fill_json, findings_tables, ladder_json
from jovik.tables.steady_answers import steady_answers
from jovik.tables.steps import (
    first_access,
    passes_table,
    run_table,
    spread_table,
    step_json,
    written_bytes,
)
from jovik.tables.table import figure_words
from jovik.tables.wake import wake_json


def show_run(
    run: RunRecord,
    results: Sequence[StepResult],
    form: str,
    *,
    every_note: bool = False,
    each_pass: bool = False,
    drive: Drive | None = None,
    brief: bool = False,
) -> None:
    """Print a run in the requested format, or only its answer if it is to be brief.

    `drive` is its sheet, if there is one.
    """
    standing = overall_of(drive, results) if drive is not None else None
    if form == "json":
        emit_json(run_document(run, results) | {"class": standing_json(standing)}, "run")
    elif form == "csv":
        emit_csv(CSV_HEADER, csv_rows(run, results))
    else:
        lines = answer_lines(run, results, drive)
        if brief:
            for line in lines:
                echo(line)
            return
        size = drive.capacity_bytes if drive is not None else None
        table = run_table(run, results, every_note=every_note, capacity_bytes=size)
        findings = findings_tables(results)
        # Where all that was measured was to be steady, that is the answer.
        steady = results and all(steady_step(r) or not r.step.measures for r in results)
        every = [*findings, table] if steady else [table, *findings]
        every[0] = replace(every[0], verdict=lines)
        every += [spread_table(results), passes_table(results)] if each_pass else []
        for number, one in enumerate(every):
            if number:
                echo("")
            show_table(one)


def answer_lines(run: RunRecord, results: Sequence[StepResult], drive: Drive | None) -> list[str]:
    """Return what a run found, in a few lines."""
    standing = overall_of(drive, results) if drive is not None else None
    size = drive.capacity_bytes if drive is not None else None
    # What a plan was made to find comes before where the drive lies in its class.
    lines = steady_answers(results)
    lines += standing_lines(standing) if standing is not None else []
    # Whatever else it does: this comes first.
    lines = [f"{run.drive} {fault_words(x, size)}" for x in faults_of(results)] + lines
    return lines or _first_figures(results)


def _first_figures(results: Sequence[StepResult]) -> list[str]:
    """Return the first figures themselves, if there is no class to compare them with."""
    figures = replay_lines(results)
    for r in results:
        if r.step.measures and r.passes and not r.findings.ladder:
            rate = rate_of(r)
            figures.append(f"{r.step.label}: {figure_words(rate, per_unit())} {rate_unit()}")
    return figures[:1]


def run_document(run: RunRecord, results: Sequence[StepResult]) -> dict[str, Any]:
    """Return a run as JSON (docs/json.md)."""

    first = first_access(results)
    shared = asdict(first) | {"unit": first.sample} if first else {}
    shared.pop("span_bytes", None)
    return {
        "run": run.id,
        "drive": run.drive,
        "target": run.target,
        "state": run.state,
        "started": run.started,
        "ended": run.ended,
        "imported": run.imported,
        "excluded": run.excluded,
        "conditions": shared,
        "device": run.device,
        "circumstances": [asdict(c) for c in run.circumstances],
        "health": {
            "before": run.health_before,
            "after": run.health_after,
            "notes": run.notes or [],
        },
        "seed": run.seed,
        "written_bytes": written_bytes(run, results),
        "steps": [step_json(r) for r in results],
        "ladders": [ladder_json(c) for c in ladders_in(results)],
        "after_a_pause": [wake_json(c) for c in wake_costs(results)],
        "empty_against_full": [fill_json(p) for p in empty_against_full(results)],
    }


CSV_HEADER = (
    "run",
    "drive",
    "phrase",
    "passes",
    "errors",
    "rate_bytes_s",
    "rate_low",
    "rate_high",
    "iops",
    "iops_low",
    "iops_high",
    "latency_mean_ns",
    "latency_p50_ns",
    "latency_p99_ns",
    "latency_p99_9_ns",
    "latency_max_ns",
    "read_bytes",
    "written_bytes",
)


def csv_rows(run: RunRecord, results: Sequence[StepResult]) -> list[list[Any]]:
    """Return a row for each step, under `CSV_HEADER`."""

    rows = []
    for one in map(step_json, results):
        rate, iops, latency = one["rate_bytes_s"], one["iops"], one["latency_ns"] or {}
        rows.append(
            [
                run.id,
                run.drive,
                one["phrase"],
                one["passes"],
                one["errors"],
                rate["median"],
                rate["low"],
                rate["high"],
                iops["median"],
                iops["low"],
                iops["high"],
                *(latency.get(k) for k in ("mean", "p50", "p99", "p99_9", "max")),
                one["read_bytes"],
                one["written_bytes"],
            ]
        )
    return rows
