"""Carry out `jovik judge`."""

from __future__ import annotations

from dataclasses import asdict

from jovik.analysis.claims import Verdict
from jovik.base.errors import UsageError
from jovik.base.interval import Interval
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table
from jovik.queries.claims import Judged, judged
from jovik.queries.real_work import real_work
from jovik.queries.samples import samples
from jovik.shelf.sqlite import where_from
from jovik.shelf.store import Shelf
from jovik.tables.claims import claims_summary, claims_table, judgement_json
from jovik.tables.drive_class import standing_json
from jovik.tables.real_work import real_work_json, real_work_table
from jovik.tables.runs import excluded_json
from jovik.tables.samples import samples_table, suspect_json
from jovik.tables.table import interval_json


def judge(
    drive: str,
    margin: float,
    target: str | None,
    by_unit: bool,
    work: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Hold the results of DRIVE against its claims."""
    with Shelf(where_from(shelf_at)) as shelf:
        if by_unit:
            return _units(shelf, drive, form)
        if work:
            return _real_work(shelf, drive, form)
        found = judged(shelf, drive, margin)
        if target is not None:
            # Only a measurement needs the engine.
            from jovik.cli.handlers.settle import settle

            if settle(shelf, found, target):
                found = judged(shelf, drive, margin)
    _show(found, form)
    short = any(j.verdict is Verdict.SHORT for j in found.judgements)
    return 1 if short or found.lost is not None else 0


def _show(found: Judged, form: str) -> None:
    judgements = found.judgements
    if form == "json":
        emit_json(
            {
                "drive": found.sheet.drive.name,
                "margin": found.margin,
                "lost": asdict(found.lost) if found.lost else None,
                "summary": claims_summary(judgements),
                "claims": [judgement_json(j) for j in judgements],
                "disagreements": [
                    {
                        "what": x.what,
                        "one_bytes_s": interval_json(x.one),
                        "two_bytes_s": interval_json(x.two),
                        "reason": x.reason,
                    }
                    for x in found.disagreements
                ],
                "suspects": [suspect_json(s) for s in found.samples.suspects],
                "excluded": excluded_json(found.excluded),
                "class": standing_json(found.standing),
            },
            "judgements",
        )
    elif form == "csv":
        header = ["claim", "unit", "claimed", "measured", "low", "high", "verdict", "phrase", "why"]
        rows = [
            (
                j.claim.what,
                j.claim.unit,
                j.claim.figure,
                *_numbers(j.measured),
                str(j.verdict),
                j.step.phrase if j.step else None,
                j.why,
            )
            for j in judgements
        ]
        emit_csv(header, rows)
    else:
        show_table(claims_table(found))


def _real_work(shelf: Shelf, drive: str, form: str) -> int:
    """Show real work against the synthetic."""
    found = real_work(shelf, drive)
    if form == "json":
        emit_json(real_work_json(found), "real-work")
    elif form == "csv":
        table = real_work_table(found)
        emit_csv(table.columns, table.rows)
    else:
        show_table(real_work_table(found))
    return 0


def _units(shelf: Shelf, drive: str, form: str) -> int:
    """Lay the samples side by side; 1 where one is suspect."""
    found = samples(shelf, shelf.sheet(drive))
    if not found.figures:
        raise UsageError(
            f"no unit of {found.drive} was measured",
            f'measure one: jovik measure TARGET --drive "{found.drive}"',
        )
    if form == "json":
        units = [
            {
                "unit": f.unit,
                "kind": f.kind,
                "rate_bytes_s": interval_json(f.rate_bytes_s),
                "run": f.result.run,
                "share": interval_json(f.share) if f.share else None,
                "class_bytes_s": {"low": f.band.low, "high": f.band.high},
            }
            for f in found.figures
        ]
        emit_json(
            {
                "drive": found.drive,
                "units": units,
                "suspects": [suspect_json(s) for s in found.suspects],
            },
            "samples",
        )
    elif form == "csv":
        table = samples_table(found)
        emit_csv(table.columns, table.rows)
    else:
        show_table(samples_table(found))
    return 1 if found.suspects else 0


def _numbers(value: Interval | None) -> tuple[float | None, ...]:
    return (value.median, value.low, value.high) if value else (None, None, None)
