"""Step results as a table, as JSON (docs/json.md) and as CSV: what `measure` prints."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.comparability import long_write_of
from jovik.analysis.fullness import FillComparison, empty_against_full
from jovik.analysis.statistics import interval
from jovik.analysis.sweep import Sweep, curves
from jovik.base.step_result import StepResult
from jovik.cli.output import emit_csv, emit_json, interval_json, show_table
from jovik.shelf.store import RunRecord
from jovik.tables.run_findings import findings_tables
from jovik.tables.steps import first_access, run_table, written_bytes


def step_json(result: StepResult) -> dict[str, Any]:
    """One step as documented."""
    latency = all_latencies_ns(result)
    return {
        "phrase": result.phrase,
        "kind": result.kind,
        "passes": len(result.passes),
        "errors": result.errors,
        "rate_bytes_s": interval_json(interval([p.rate_bytes_s for p in result.passes])),
        "flushed_rate_bytes_s": interval_json(
            interval([p.flushed_rate_bytes_s for p in result.passes])
        ),
        "iops": interval_json(interval([p.iops for p in result.passes])),
        "latency_ns": latency,
        "read_bytes": sum(p.read_bytes for p in result.passes),
        "written_bytes": sum(p.written_bytes for p in result.passes),
        "cpu_ns_per_io": _cpu_per_io(result),
        "conditions": asdict(result.conditions),
        "cliff": _cliff(result),
        "facts": result.findings.as_json(),
        "limits": [
            {"what": x.what, "rate_bytes_s": x.rate_bytes_s, "note": x.note} for x in result.limits
        ],
        "notes": list(result.notes),
    }


def _cliff(result: StepResult) -> dict[str, Any] | None:
    """Where a long write fell first; the rest of what it showed is among the facts."""
    written = long_write_of(result)
    cliff = written.cliff if written is not None else None
    return asdict(cliff) if cliff is not None else None


def _cpu_per_io(result: StepResult) -> float | None:
    ios = sum(p.iops * p.elapsed_ns / 1e9 for p in result.passes)
    return sum(p.cpu_ns for p in result.passes) / ios if ios else None


def show_run(run: RunRecord, results: Sequence[StepResult], form: str) -> None:
    """A run in the form that was asked for."""
    written = written_bytes(run, results)
    if form == "json":
        first = first_access(results)
        shared = {k: v for k, v in asdict(first).items() if k != "span_bytes"} if first else {}
        emit_json(
            {
                "run": run.id,
                "drive": run.drive,
                "target": run.target,
                "state": run.state,
                "started": run.started,
                "ended": run.ended,
                "conditions": shared,
                "device": run.device,
                "health": {
                    "before": run.health_before,
                    "after": run.health_after,
                    "notes": run.notes or [],
                },
                "seed": run.seed,
                "written_bytes": written,
                "steps": [step_json(r) for r in results],
                "ladders": [_ladder_json(c) for c in curves(results)],
                "empty_against_full": [_pair_json(p) for p in empty_against_full(results)],
            }
        )
    elif form == "csv":
        _csv(run, results)
    else:
        show_table(run_table(run, results))
        for table in findings_tables(results):
            show_table(table)


def _csv(run: RunRecord, results: Sequence[StepResult]) -> None:
    header = [
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
    ]
    header += [
        "latency_mean_ns",
        "latency_p50_ns",
        "latency_p99_ns",
        "latency_p99_9_ns",
        "latency_max_ns",
        "read_bytes",
        "written_bytes",
    ]
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
    emit_csv(header, rows)


def _ladder_json(curve: Sweep) -> dict[str, Any]:
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
        "best": curve.best,
        "points": points,
    }


def _pair_json(pair: FillComparison) -> dict[str, Any]:
    return {
        "kind": pair.kind,
        "filled_percent": pair.filled_percent,
        "empty_bytes_s": interval_json(pair.empty),
        "full_bytes_s": interval_json(pair.full),
        "share": interval_json(pair.share),
    }
