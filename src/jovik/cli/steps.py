"""Step results as a table, as JSON (docs/json.md) and as CSV: what `measure` prints."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from jovik.analysis.alike import long_write_of
from jovik.analysis.judge import all_latencies_ns
from jovik.analysis.statistics import interval
from jovik.cli.findings import findings_json, in_a_ladder, is_copy, show_findings
from jovik.cli.output import emit_csv, emit_json, interval_json, interval_words, table
from jovik.phrase import parse
from jovik.results import Conditions, StepResult
from jovik.shelf.store import RunRecord
from jovik.units import show_size, show_time, significant


def step_json(result: StepResult) -> dict[str, Any]:
    """One step as documented."""
    latency = all_latencies_ns(result)
    return {
        "phrase": result.phrase,
        "kind": result.kind,
        "passes": len(result.passes),
        "errors": result.errors,
        "rate_bytes_s": interval_json(interval([p.rate_bytes_s for p in result.passes])),
        "flushed_rate_bytes_s": interval_json(interval([p.flushed_rate_bytes_s for p in result.passes])),
        "iops": interval_json(interval([p.iops for p in result.passes])),
        "latency_ns": latency,
        "read_bytes": sum(p.read_bytes for p in result.passes),
        "written_bytes": sum(p.written_bytes for p in result.passes),
        "cpu_ns_per_io": _cpu_per_io(result),
        "conditions": asdict(result.conditions),
        "cliff": _cliff(result),
        "facts": result.facts,
        "limits": [{"what": x.what, "rate_bytes_s": x.rate_bytes_s, "note": x.note} for x in result.limits],
        "notes": list(result.notes),
    }


def _cliff(result: StepResult) -> dict[str, Any] | None:
    """Where a long write fell first; the rest of what it showed is among the facts."""
    written = long_write_of(result)
    return written["cliff"] if written is not None else None


def _cpu_per_io(result: StepResult) -> float | None:
    ios = sum(p.iops * p.elapsed_ns / 1e9 for p in result.passes)
    return sum(p.cpu_ns for p in result.passes) / ios if ios else None


def written_bytes(run: RunRecord, results: Sequence[StepResult]) -> int:
    """All that a run wrote: laid out and measured."""
    return run.laid_out_bytes + sum(p.written_bytes for r in results for p in r.passes)


def show_run(run: RunRecord, results: Sequence[StepResult], form: str) -> None:
    """A run in the form that was asked for."""
    written = written_bytes(run, results)
    if form == "json":
        first = _first_access(results)
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
                "health": {"before": run.health_before, "after": run.health_after, "notes": run.notes or []},
                "seed": run.seed,
                "written_bytes": written,
                "steps": [step_json(r) for r in results],
                **findings_json(results),
            }
        )
    elif form == "csv":
        _csv(run, results)
    else:
        _table(run, results, written)


def _first_access(results: Sequence[StepResult]) -> Conditions | None:
    """The conditions that speak for a run: a copy goes through the cache on any target, and says nothing of the others."""
    return next((r.conditions for r in results if not is_copy(r)), results[0].conditions if results else None)


def _csv(run: RunRecord, results: Sequence[StepResult]) -> None:
    header = ["run", "drive", "phrase", "passes", "errors", "rate_bytes_s", "rate_low", "rate_high", "iops", "iops_low", "iops_high"]
    header += ["latency_mean_ns", "latency_p50_ns", "latency_p99_ns", "latency_p99_9_ns", "latency_max_ns", "read_bytes", "written_bytes"]
    rows = []
    for one in map(step_json, results):
        rate, iops, latency = one["rate_bytes_s"], one["iops"], one["latency_ns"] or {}
        rows.append(
            [run.id, run.drive, one["phrase"], one["passes"], one["errors"], rate["median"], rate["low"], rate["high"], iops["median"],
             iops["low"], iops["high"], *(latency.get(k) for k in ("mean", "p50", "p99", "p99_9", "max")), one["read_bytes"], one["written_bytes"]]
        )  # fmt: skip
    emit_csv(header, rows)


def _table(run: RunRecord, results: Sequence[StepResult], written: int) -> None:
    rows = [_row(n, r) for n, r in enumerate(results, 1) if not in_a_ladder(r)]
    notes: dict[str, list[int]] = {}
    for number, r in enumerate(results, 1):
        said = [*r.notes, *(f"limited by the {x.what} ({x.note}), {significant(x.rate_bytes_s / 1e6)} MB/s" for x in r.limits)]
        said += [f"{r.errors} error{'s' if r.errors > 1 else ''}"] if r.errors else []
        for note in said:
            notes.setdefault(note, []).append(number)
    measured = [r for r in results if parse(r.phrase).measures]
    lines = [_note_line(note, steps, len(measured)) for note, steps in notes.items()]
    conditions = _first_access(measured)
    engines = ", ".join(dict.fromkeys(r.conditions.engine for r in measured))
    how = f"engine: {engines}, {'direct' if conditions.direct else 'not direct'}; rig: {conditions.rig}; " if conditions else ""
    lines += [*_warmth(results), *(f"the drive's log: {note}" for note in run.notes or [])]
    lines.append(f"{how}written: {show_size(written)}; run {run.id}")
    table(
        f"{run.drive}: {run.plan}",
        ["", "step", "MB/s", "95 % interval", "IOPS", "half within", "99 % within", "passes"],
        rows,
        right=(0, 2, 3, 4, 5, 6, 7),
        spare=(7, 5, 6),
        notes=lines,
    )
    show_findings(results)


def _row(number: int, r: StepResult) -> list[str]:
    step = parse(r.phrase)
    if not step.measures:
        return [str(number), step.label, "", "", "", "", "", ""]
    rate, iops, latency = interval([p.rate_bytes_s for p in r.passes]), interval([p.iops for p in r.passes]), all_latencies_ns(r)
    full = f", filled to {r.conditions.filled_percent} %" if r.conditions.filled_percent is not None else ""
    return [
        str(number),
        step.label + full,
        significant(rate.median / 1e6),
        interval_words(rate, 1e-6),
        "-" if is_copy(r) else significant(iops.median),
        show_time(latency["p50"]) if latency else "-",
        show_time(latency["p99"]) if latency else "-",
        str(len(r.passes)),
    ]


def _warmth(results: Sequence[StepResult]) -> list[str]:
    """How warm the drive was and became, in one line for the run."""
    warm = [(r.facts["temperature"]["peak_c"], n) for n, r in enumerate(results, 1) if "temperature" in r.facts]
    if not warm:
        return []
    first = next(r.facts["temperature"]["start_c"] for r in results if "temperature" in r.facts)
    peak, at = max(warm)
    return [f"temperature: {first:.0f} C at the start, {peak:.0f} C at most" + (f" (step {at})" if len(results) > 1 else "")]


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
    return ", ".join(f"{p[0]}" if len(p) == 1 else f"{p[0]}{', ' if len(p) == 2 else '-'}{p[-1]}" for p in parts)
