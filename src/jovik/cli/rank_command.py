"""`jovik rank`: every drive on the shelf, per step and overall, best first."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.completion import drives, loads_and_recordings, orders, yardsticks
from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    pass


@click.command()
@click.option(
    "--yardstick",
    metavar="DRIVE",
    shell_complete=yardsticks,
    help="The drive that the index calls 100, or class:NAME for what is usual for a class. "
    "Default: the one measured first.",
)
@click.option(
    "--by",
    default="drive",
    metavar="ORDER",
    shell_complete=orders,
    show_default=True,
    help="drive (its index), price (for a terabyte), money (index for the money), "
    "endurance, latency, efficiency (moved for a joule), rig or firmware (with --unit), or a "
    "step's phrase.",
)
@click.option(
    "--for",
    "load_name",
    metavar="LOAD",
    shell_complete=loads_and_recordings,
    help="Weigh the steps as this load does (see jovik fit --loads), or rank by how long this "
    "recorded program takes (see jovik record list).",
)
@click.option(
    "--review",
    metavar="DRIVE",
    shell_complete=drives,
    help="Say the place of this drive in a sentence.",
)
@click.option("--interface", metavar="TEXT", help="Only drives whose interface has this in it.")
@click.option("--medium", metavar="TEXT", help="Only drives whose medium has this in it.")
@click.option(
    "--capacity", metavar="FROM..TO", help="Only drives of this capacity, such as 900GB..2TB."
)
@click.option("--max-price", type=float, metavar="N", help="Only drives that cost no more.")
@click.option("--since", metavar="DATE", help="Only what was measured since, such as 2026-11-01.")
@click.option(
    "--unit",
    "unit_name",
    metavar="NAME",
    help="With --by rig or firmware: the unit that was measured on several.",
)
@click.option(
    "--drive",
    "drive_name",
    metavar="NAME",
    shell_complete=drives,
    help="With --unit, where several drives have a unit of that name.",
)
@click.option(
    "--steady", is_flag=True, help="Rank by the steady state; never mixed with anything else."
)
@click.option(
    "--steps/--no-steps",
    default=True,
    help="Show the ranking of each step besides the overall one.",
    show_default=True,
)
@format_option()
@shelf_option
def rank(
    yardstick: str | None,
    by: str,
    load_name: str | None,
    review: str | None,
    interface: str | None,
    medium: str | None,
    capacity: str | None,
    max_price: float | None,
    since: str | None,
    unit_name: str | None,
    drive_name: str | None,
    steady: bool,
    steps: bool,
    form: str,
    shelf_at: str | None,
) -> None:
    """Place every drive on the shelf, comparing like with like.

    The index is the geometric mean of a drive's ratios to the yardstick over the steps both have.
    Drives whose difference lies inside the noise share a place.

    \b
    jovik rank --by "random read 4KiB" --interface SATA
    jovik rank --for telescope --max-price 150 --review "Comet 2TB"
    jovik rank --for editor-start
    """
    from jovik.analysis.ranking import rank_sentence
    from jovik.base.errors import UsageError
    from jovik.cli.output import emit_csv, emit_json, show_notes, show_table
    from jovik.queries.ranking import ENERGY, WITHIN, Filter, ranked, ranked_within
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.cross_rig import slowed_json
    from jovik.tables.drive_class import standing_json
    from jovik.tables.ranking import (
        overall_table,
        ranking_findings,
        ranking_foot,
        ranking_json,
        ranking_of,
        steps_table,
    )
    from jovik.tables.runs import excluded_json

    if (by in WITHIN) != (unit_name is not None):
        raise UsageError(
            "--by rig, or --by firmware, and --unit go together",
            "jovik rank --unit 'unit 1' --by rig",
        )
    with Shelf(where_from(shelf_at)) as shelf:
        if unit_name is not None:
            found = ranked_within(
                shelf, unit_name, by, drive_name, yardstick=yardstick, load=load_name
            )
        else:
            only = Filter(interface, medium, capacity, max_price, since)
            found = ranked(
                shelf, yardstick=yardstick, by=by, load=load_name, only=only, steady=steady
            )
        reviewed = shelf.sheet(review).drive.name if review is not None else None
    ranking = found.ranking
    if form == "json":
        emit_json(
            ranking_json(ranking, energy=by == ENERGY)
            | {
                "held_by_rig": slowed_json(found.slowed),
                "excluded": excluded_json(found.excluded),
                "classes": [
                    {"drive": d} | (standing_json(s) or {}) for d, s in found.standings.items()
                ],
                "by": by,
                "for": load_name,
                "sentence": rank_sentence(ranking, reviewed) if reviewed is not None else None,
            },
            "ranking",
        )
    elif form == "csv":
        rate = "bytes_per_joule" if by == ENERGY else "rate_bytes_s"
        header = ["kind", "place", "drive", rate, "low", "high", "index", "passes"]
        header += ["index_low", "index_high"]
        rows: list[tuple[Any, ...]] = [
            (
                "overall",
                str(d.place or ""),
                d.drive,
                None,
                None,
                None,
                d.index.median if d.index else None,
                None,
                d.index.low if d.index else None,
                d.index.high if d.index else None,
            )
            for d in ranking.drives
        ]
        rows += [
            (
                s.kind,
                str(s.place),
                s.drive,
                s.rate_bytes_s.median,
                s.rate_bytes_s.low,
                s.rate_bytes_s.high,
                s.index.median if s.index else None,
                s.passes,
                s.index.low if s.index else None,
                s.index.high if s.index else None,
            )
            for kind in ranking.kinds
            for s in ranking_of(ranking, kind)
        ]
        emit_csv(header, rows)
    else:
        # Who asks for one step gets that first.
        overall = overall_table(found)
        tables = [overall] if found.kind is None else [replace(overall, verdict=())]
        if (found.kind is not None or steps) and ranking.drives:
            by_step = steps_table(found, None if found.kind is None else [found.kind])
            tables = [by_step, *tables] if found.kind is not None else [*tables, by_step]
        findings = ranking_findings(found)
        small = [line for line in ranking_foot(found) if line not in findings]
        tables[-1] = replace(tables[-1], notes=findings, small=small)
        for number, table in enumerate(tables):
            if number:
                click.echo()
            show_table(table)
        if reviewed is not None:
            show_notes([rank_sentence(ranking, reviewed)])
