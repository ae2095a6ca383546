"""Carry out `jovik fit`."""

from __future__ import annotations

from collections.abc import Sequence

import click

from jovik.base.errors import UsageError
from jovik.base.quantities import show_rate, spell_size
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table
from jovik.queries.suitability import Fitted, fitted, fitted_all
from jovik.sheets.drive_class import class_names, read_class
from jovik.sheets.load import Load, load_names, read_load
from jovik.shelf.sqlite import where_from
from jovik.shelf.store import Shelf
from jovik.tables import Table
from jovik.tables.cross_rig import slowed_json
from jovik.tables.drive_class import classes_json, classes_table
from jovik.tables.replay import programs_json, programs_table
from jovik.tables.suitability import carriers_tables, fit_json, fit_table, load_json


def fit(
    drive: str | None,
    names: tuple[str, ...],
    listing: bool,
    classes: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Say which loads DRIVE carries, or without DRIVE which drives carry a load."""
    if classes:
        _list_classes(form)
        return 0
    loads = [read_load(n) for n in names or load_names()]
    if listing:
        _list(loads, form)
        return 0
    if drive is None:
        if not names:
            raise UsageError(
                "which drive? NAME is missing",
                "jovik fit NAME; jovik fit --load voices for all drives; jovik fit --loads says "
                "which loads there are",
            )
        with Shelf(where_from(shelf_at)) as shelf:
            every = fitted_all(shelf, loads)
        _show_all(every, form)
        return 0 if any(f.carried for x in every for f in x.empty) else 1
    with Shelf(where_from(shelf_at)) as shelf:
        found = fitted(shelf, drive, loads)
    _show(found, form)
    return 1 if names and not all(f.carried for f in found.empty) else 0


def _list_classes(form: str) -> None:
    found = sorted(map(read_class, class_names()), key=lambda c: next(f.usual for f in c.figures))
    rows = classes_json(found)
    if form == "json":
        emit_json({"classes": rows}, "classes")
    elif form == "csv":
        header = ["class", "what", "unit", "from", "usual", "to", "why", "source"]
        emit_csv(
            header, [(c["name"], *(f[h] for h in header[1:])) for c in rows for f in c["figures"]]
        )
    else:
        show_table(classes_table(found))


def _list(loads: Sequence[Load], form: str) -> None:
    rows = []
    for x in loads:
        needs = " and ".join(
            f"{word} {show_rate(r)}"
            for word, r in (("reads", x.read_bytes_s), ("writes", x.write_bytes_s))
            if r
        )
        rows.append(
            (
                x.name,
                x.title,
                needs,
                f"{'random' if x.random else 'sequential'}, {spell_size(x.block_bytes)}",
                f"{x.hours_a_day:g}",
                x.formula,
            )
        )
    if form == "json":
        emit_json({"loads": [load_json(x) for x in loads]}, "loads")
    elif form == "csv":
        emit_csv(["name", "title", "needs", "how", "hours_a_day", "formula"], rows)
    else:
        show_table(
            Table(
                "Loads",
                ["name", "load", "one stream", "how", "hours a day", "formula"],
                rows,
                right=(4,),
                spare=(4,),
            )
        )


def _show_all(every: Sequence[Fitted], form: str) -> None:
    """Each load with the drives that carry it."""
    if form == "json":
        emit_json(
            {
                "drives": [
                    {"drive": x.drive.name, "fits": [fit_json(f, None) for f in x.empty]}
                    for x in every
                ]
            },
            "fits-of-drives",
        )
    elif form == "csv":
        emit_csv(
            ["load", "drive", "carried", "streams", "headroom", "ends"],
            [
                (f.load.name, x.drive.name, f.carried, f.streams, f.headroom, f.ends)
                for x in every
                for f in x.empty
            ],
        )
    else:
        for table in carriers_tables(every):
            show_table(table)


def _show(found: Fitted, form: str) -> None:
    every = [(None, f) for f in found.empty] + [
        (level, f) for level, fits in found.filled.items() for f in fits
    ]
    if form == "json":
        emit_json(
            {
                "drive": found.drive.name,
                "held_by_rig": slowed_json(found.slowed),
                "fits": [fit_json(f, level) for level, f in every],
                "programs": programs_json(found.programs),
            },
            "fits",
        )
    elif form == "csv":
        header = ["load", "filled_percent", "streams", "headroom", "ends", "years_of_endurance"]
        emit_csv(
            header,
            [(f.load.name, level, f.streams, f.headroom, f.ends, f.years) for level, f in every],
        )
    else:
        show_table(fit_table(found))
        if found.programs:
            click.echo()
            show_table(programs_table(found.drive.name, found.programs))
