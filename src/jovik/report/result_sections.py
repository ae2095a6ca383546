"""The sections on results, by the reader's questions."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.comparability import series_to_show, steady_step
from jovik.analysis.fullness import empty_against_full
from jovik.analysis.step_result import StepResult
from jovik.base.quantities import in_rate_unit, show_rate, show_size
from jovik.charts.instrument import instrument_chart
from jovik.charts.ladder import ladder_chart
from jovik.charts.latency import latency_chart
from jovik.charts.long_write import long_write_chart, usual_sustained
from jovik.charts.pairs import fullness_chart
from jovik.charts.provenance import provenance
from jovik.charts.surface import surface_chart
from jovik.queries.instrument import log_beside
from jovik.queries.ladder import ladders_of
from jovik.report.document import Block, Picture, Section
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf
from jovik.tables import Table
from jovik.tables.drive_faults import failed_table
from jovik.tables.instrument import log_table
from jovik.tables.replay import replays_table
from jovik.tables.run_findings import (
    access_table,
    copies_table,
    fullness_table,
    in_a_ladder,
    ladder_table,
    long_write_table,
)
from jovik.tables.steps import first_access, run_table, speed_table, written_bytes

Runs = Sequence[tuple[RunRecord, tuple[StepResult, ...]]]
LATENCY_STEPS = ("random read 4KiB", "random write 4KiB")
"""Steps whose latencies are drawn in one chart, if they were measured."""


def instruments_section(shelf: Shelf, drive: str, runs: Runs) -> Section:
    """Return the logs of instruments under the rate, by phase and step."""
    blocks: list[Block] = []
    for run, logs in runs:
        for laid in (log_beside(shelf, x) for x in shelf.notes.logs(drive, run.id)):
            blocks.append(
                Picture(
                    f"instrument-{len(blocks) + 1}",
                    instrument_chart(laid, drive, provenance(logs)),
                )
            )
            blocks.append(log_table(laid))
    return Section("instruments", "Instruments", tuple(blocks))


def tests_sections(shelf: Shelf, results: Sequence[StepResult]) -> list[Section]:
    """Speed over depth, block and mix, the long write, nearly full: each a picture and a table."""
    empty = [r for r in results if r.conditions.filled_percent is None]
    fresh = [r for r in empty if not steady_step(r)]
    speed: list[Block] = [speed_table(fresh)] if speed_table(fresh).rows else []
    for number, curve in enumerate(ladders_of(shelf, fresh), 1):
        speed += [Picture(f"ladder-{number}", ladder_chart([curve])), ladder_table(curve)]
    for number, result in enumerate((r for r in empty if r.findings.scan is not None), 1):
        trace = shelf.runs.traces(result.run, result.phrase)[0]
        speed.append(Picture(f"surface-{number}", surface_chart([(result, trace)])))
    long: list[Block] = []
    for number, result in enumerate((r for r in empty if series_to_show(r) is not None), 1):
        trace = shelf.runs.traces(result.run, result.phrase)[0]
        sheet = shelf.sheets.get(result.drive)
        usual = usual_sustained(sheet.drive, result)
        chart = long_write_chart([(result, trace)], claims=sheet.claims, usual=usual)
        long += [Picture(f"long-write-{number}", chart), long_write_table(None, result)]
    pairs = empty_against_full(list(results))
    return [
        Section("speed", "Speed", tuple(speed)),
        Section("long-write", "The long write", tuple(long)),
        Section(
            "full",
            "Nearly full",
            (Picture("full", fullness_chart(pairs)), fullness_table(pairs)) if pairs else (),
        ),
    ]


def work_blocks(results: Sequence[StepResult]) -> tuple[Block, ...]:
    """Return the tables of copies and recorded programs."""
    empty = [r for r in results if r.conditions.filled_percent is None]
    tables = (copies_table(empty), replays_table(empty))
    return tuple(t for t in tables if t.rows)


def latency_section(results: Sequence[StepResult]) -> Section:
    """Return how long single I/Os take."""
    empty = [r for r in results if r.conditions.filled_percent is None]
    chosen = [r for kind in LATENCY_STEPS for r in empty if r.kind == kind and r.latencies]
    blocks = (Picture("latency", latency_chart(chosen)), access_table(empty)) if chosen else ()
    return Section("latency", "Latency", blocks)


def failed_section(results: Sequence[StepResult]) -> Section:
    """Return the addresses at which reads or writes failed."""
    table = failed_table(results)
    return Section("failed", "Failed reads and writes", (table,) if table.rows else ())


def steps_section(runs: Runs) -> Section:
    """Return each run with every step and every note."""
    return Section(
        "tests", "Every step and every note", tuple(run_table(r, f) for r, f in runs), folded=True
    )


def how_section(shelf: Shelf, runs: Runs) -> Section:
    """For each run: plan, conditions, rig, cost, version, and the limits of its steps."""
    blocks: list[Block] = []
    for run, results in runs:
        title = f"{run.plan}, {run.started[:16].replace('T', ' ')} UTC"
        blocks.append(Table(title, ["what", "how"], _facts(shelf, run, results)))
    rows = [
        (
            r.step.label,
            x.what,
            show_rate(x.rate_bytes_s),
            in_rate_unit(x.note),
        )
        for _, results in runs
        for r in results
        for x in r.limits
    ]
    if rows:
        blocks.append(Table("Limits", ["step", "limit", "at", "note"], rows, right=(2,)))
    return Section("how", "How it was measured", tuple(blocks), folded=True)


def _facts(shelf: Shelf, run: RunRecord, results: Sequence[StepResult]) -> list[tuple[str, str]]:
    measured = [r for r in results if r.step.measures]
    shared, device = first_access(measured), run.device or {}
    rig = shelf.runs.rig(run.rig)
    passes = sorted({len(r.passes) for r in measured})
    spans = sorted({r.conditions.span_bytes for r in measured if not in_a_ladder(r)})
    facts = [
        ("target", _target(run)),
        (
            "rig",
            "; ".join(
                x for x in (rig.name, *(f"{k}: {v}" for k, v in rig.facts.items()), rig.notes) if x
            ),
        ),
        (
            "drive under it",
            "; ".join(
                str(v)
                for k, v in device.items()
                if k in ("maker", "model", "firmware", "driver", "file_system") and v
            ),
        ),
        ("link", shared.link if shared and shared.link else ""),
        ("sample", "; ".join(x for x in (shared.sample, shared.firmware) if x) if shared else ""),
        (
            "engine",
            ", ".join(
                dict.fromkeys(
                    f"{r.conditions.engine}{'' if r.conditions.direct else ' through the cache'}"
                    for r in measured
                )
            ),
        ),
        (
            "passes",
            f"{passes[0]} to {passes[-1]} of each step"
            if len(passes) > 1
            else f"{passes[0]} of each step"
            if passes
            else "",
        ),
        (
            "within",
            " to ".join(show_size(s) for s in dict.fromkeys((spans[0], spans[-1])) if s)
            if spans
            else "",
        ),
        ("written", show_size(written_bytes(run, results))),
        ("seed", str(run.seed)),
        ("run", f"{run.id}, {run.state}, Jovik {run.version}"),
        ("imported", f"measured elsewhere, from {run.imported}" if run.imported else ""),
    ]
    return [(what, how) for what, how in facts if how]


def _target(run: RunRecord) -> str:
    """Return the target of a run, without a path on the reviewer's own machine."""
    kind = run.target.get("kind")
    return (
        f"the model drive {run.target.get('name')}"
        if kind == "model"
        else "a folder on it"
        if kind == "folder"
        else "the whole device"
    )
