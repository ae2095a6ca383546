"""Carry out `jovik scout`."""

from __future__ import annotations

import click

from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table
from jovik.hardware.block_trace import left_on
from jovik.hardware.target import MODEL, devices_under, mount_under
from jovik.queries.readiness import claims_at, readiness_of, readiness_of_model
from jovik.runs.identification import system_drive
from jovik.shelf.sqlite import where_from
from jovik.tables.circumstances import circumstances_table
from jovik.tables.readiness import readiness_json, readiness_table


def scout(
    target: str | None, serials: bool, everything: bool, form: str, shelf_at: str | None
) -> None:
    """Show every drive here, or the one under TARGET."""
    system, where = system_drive(), where_from(shelf_at)
    if target is not None and target.startswith(MODEL):
        drives = [readiness_of_model(target.removeprefix(MODEL), [])]
    else:
        devices, mount = devices_under(target), mount_under(target)
        drives = [readiness_of(d, claims_at(where, d.model), system, mount) for d in devices]
    rows = [readiness_json(f, serials=serials) for f in drives]
    if form == "json":
        emit_json({"drives": rows, "tracing_left_on": left_on()}, "drives-here")
    elif form == "csv":
        keys = [
            "node",
            "kind",
            "maker",
            "model",
            "serial",
            "firmware",
            "capacity_bytes",
            "medium",
            "link",
            "temperature_c",
        ]
        emit_csv(
            keys,
            [[r["link"]["now"] if k == "link" and r["link"] else r[k] for k in keys] for r in rows],
        )
    else:
        show_table(readiness_table(rows))
        if count := left_on():
            echo(
                f"kernel tracing is still on: {count} {'recording' if count == 1 else 'recordings'}"
                " ended without switching it off. The next 'jovik record' does so.",
                err=True,
            )
        for f in drives if everything else ():
            click.echo()
            show_table(circumstances_table(f.circumstances, f"Circumstances of {f.device.node}"))
