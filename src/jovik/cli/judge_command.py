"""`jovik judge`: each claim beside what was measured."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from jovik.cli.completion import drives
from jovik.cli.options import UnitParam, format_option, share, shelf_option

if TYPE_CHECKING:
    from jovik.base.interval import Interval
    from jovik.queries.claims import Judged
    from jovik.shelf.store import Shelf


@click.command()
@click.argument("drive", shell_complete=drives)
@click.option(
    "--margin",
    type=UnitParam("SHARE", share),
    default="5%",
    show_default=True,
    help="How far below a claim still meets it.",
)
@click.option(
    "--settle",
    "target",
    metavar="TARGET",
    help="Measure on TARGET what is too close to call, with as many passes as it takes.",
)
@click.option(
    "--samples",
    "by_unit",
    is_flag=True,
    help="Lay the samples of the drive side by side instead, and name those that are not right.",
)
@click.option(
    "--real-work",
    "work",
    is_flag=True,
    help="Show what its streams, copies and recorded programs get of what the box says.",
)
@format_option()
@shelf_option
def judge(
    drive: str,
    margin: float,
    target: str | None,
    by_unit: bool,
    work: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Hold the results of DRIVE against its claims.

    Exit status 1 when a claim fell short, or the drive lost data.

    \b
    jovik judge "Comet 2TB"
    jovik judge "Comet 2TB" --settle /mnt/new
    jovik judge "Comet 2TB" --samples
    jovik judge "Comet 2TB" --real-work
    """
    from jovik.analysis.claims import Verdict
    from jovik.queries.claims import judged
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        if by_unit:
            return _units(shelf, drive, form)
        if work:
            return _real_work(shelf, drive, form)
        found = judged(shelf, drive, margin)
        if target is not None and _settle(shelf, found, target):
            found = judged(shelf, drive, margin)
    _show(found, form)
    short = any(j.verdict is Verdict.SHORT for j in found.judgements)
    return 1 if short or found.lost is not None else 0


def _settle(shelf: Shelf, found: Judged, target: str) -> bool:
    """Measure again what is too close to call; whether there was anything."""
    from jovik.cli.run_flow import run_order
    from jovik.queries.claims import even_from_the_start
    from jovik.runs import request_for_undecided
    from jovik.runs.request import SETTLING_WRITE_NS

    order = request_for_undecided(
        found.judgements,
        target,
        found.margin,
        lambda j: even_from_the_start(shelf, j, SETTLING_WRITE_NS),
    )
    if order is None:
        click.echo(_nothing_to_settle(found), err=True)
        return False
    run_order(shelf, found.sheet, order, "table")
    return True


def _nothing_to_settle(found: Judged) -> str:
    """Why no pass is made: nothing is open, or nothing that more passes could settle."""
    from jovik.analysis.claims import Verdict

    left = [j.claim.what for j in found.judgements if j.verdict is Verdict.CLOSE]
    if not left:
        return "nothing is too close to call"
    return f"more passes cannot settle {', '.join(left)}: its line below says why, and what would"


def _show(found: Judged, form: str) -> None:
    from dataclasses import asdict

    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.tables.claims import claims_summary, claims_table, judgement_json
    from jovik.tables.drive_class import standing_json
    from jovik.tables.runs import excluded_json
    from jovik.tables.samples import suspect_json
    from jovik.tables.table import interval_json

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
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.queries.real_work import real_work
    from jovik.tables.real_work import real_work_json, real_work_table

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
    from jovik.base.errors import UsageError
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.queries.samples import samples
    from jovik.tables.samples import samples_table, suspect_json
    from jovik.tables.table import interval_json

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
