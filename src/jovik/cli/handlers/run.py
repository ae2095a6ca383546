"""Carry out `jovik runs` on a single run."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.base.atomic_files import output, refuse_foreign, write_output
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.cli.echo import echo
from jovik.cli.run_output import show_run
from jovik.cli.written_files import say_written
from jovik.queries.meters import meter_table
from jovik.queries.runs import run_key
from jovik.queries.series import series_of
from jovik.runs.request import refuse_while_going_on
from jovik.shelf.store import Shelf
from jovik.tables.series import as_csv, as_parquet


def show(run: str, every_note: bool, each_pass: bool, form: str, shelf_at: str | None) -> int:
    """Show RUN again, as measure did. 'last' is the latest."""
    with Shelf(where_from(shelf_at)) as shelf:
        record = shelf.runs.get(run_key(shelf, run))
        show_run(
            record,
            shelf.results.of_run(record.id),
            form,
            every_note=every_note,
            each_pass=each_pass,
            drive=shelf.sheets.get(record.drive).drive,
        )
    return 0


def series(
    run: str, number: int | None, out: str, force: bool, form: str, shelf_at: str | None
) -> int:
    """Write the series of RUN: a row for every tenth of a second of every pass."""
    path = Path(out)
    if out != "-" and path.suffix not in (".csv", ".parquet"):
        raise UsageError(f"{out} is neither a .csv nor a .parquet file")
    if out != "-":
        refuse_foreign(path, None, force=force)
    with Shelf(where_from(shelf_at)) as shelf:
        rows = series_of(shelf, run_key(shelf, run), number)
        if out == "-":
            for line in as_csv(rows):
                click.echo(line, nl=False)
            return 0
        with output(path, force=force) as file:
            if path.suffix == ".parquet":
                file.write(as_parquet(rows))
            else:
                file.writelines(line.encode() for line in as_csv(rows))
    say_written(form, [out])
    return 0


def meter(run: str, quantity: str, out: Path, force: bool, form: str, shelf_at: str | None) -> None:
    """Write the simulated readings of a meter beside a model drive during RUN."""
    if out != Path("-"):
        refuse_foreign(out, None, force=force)
    with Shelf(where_from(shelf_at)) as shelf:
        text = meter_table(shelf, run_key(shelf, run), quantity)
    if out == Path("-"):
        click.echo(text, nl=False)
    else:
        write_output(out, text.encode(), force=force)
        say_written(form, [out], "wrote {}".format)


def remove(run: str, shelf_at: str | None) -> None:
    """Remove RUN and its passes from the shelf for good. The user types its name in full."""
    with Shelf(where_from(shelf_at)) as shelf:
        key = run_key(shelf, run)
        if key != run:
            raise UsageError(
                f"'{run}' is run {key}, and a removal is final",
                f"name it in full: jovik runs remove {key}; or exclude it: jovik runs exclude",
            )
        refuse_while_going_on(shelf.runs.get(key))
        count = shelf.corrections.remove_run(key)
    echo(f"run {key} is removed, {count} {'pass' if count == 1 else 'passes'} with it")
