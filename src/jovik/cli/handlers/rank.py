"""Carry out `jovik rank`."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import click

from jovik.analysis.ranking import rank_sentence
from jovik.base.errors import UsageError
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_notes, show_table
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
    """Place every drive on the shelf, comparing like with like."""
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
