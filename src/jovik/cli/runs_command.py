"""`jovik runs`: what was measured, and the same figures again."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jovik.base.atomic_files import output, refuse_foreign, write_output
from jovik.cli.completion import drives, run_names
from jovik.cli.naming_group import BareMemberGroup
from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    pass


class ListFirst(BareMemberGroup):
    """A group whose bare form, with or without a drive, is its member `list`."""

    bare = "list"


@click.group(cls=ListFirst, name="runs")
def runs() -> None:
    """What was measured: jovik runs [DRIVE], newest first, and each run again.

    \b
    jovik runs
    jovik runs list "Comet 2TB" --since 2026-11-01
    jovik runs show last
    jovik runs exclude last --why "wrong cable"
    """


@runs.command("list")
@click.argument("drive", required=False, shell_complete=drives)
@click.option("--since", metavar="DATE", help="Only runs begun on that day or later.")
@click.option("--rig", metavar="NAME", help="Only runs on that rig.")
@format_option()
@shelf_option
def listing(
    drive: str | None, since: str | None, rig: str | None, form: str, shelf_at: str | None
) -> int:
    """List the runs of DRIVE, or of all, newest first; 'list' may be left out.

    \b
    jovik runs list "Comet 2TB"
    jovik runs list --rig "rear port"
    """
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.queries.runs import listed_runs
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.runs import run_json, runs_table

    with Shelf(where_from(shelf_at)) as shelf:
        found = listed_runs(shelf, drive, since=since, rig=rig)
    if form == "json":
        emit_json({"runs": [run_json(x) for x in found]}, "runs")
    elif form == "csv":
        rows = [run_json(x) for x in found]
        header = list(rows[0]) if rows else ["run"]
        emit_csv(header, [tuple(row.values()) for row in rows])
    else:
        show_table(runs_table(found))
    return 0


@runs.command("show")
@click.argument("run", shell_complete=run_names)
@click.option("--every-note", is_flag=True, help="Say what disturbed each step, not only the run.")
@click.option("--passes-table", "each_pass", is_flag=True, help="Show each pass of each step, too.")
@format_option()
@shelf_option
def show(run: str, every_note: bool, each_pass: bool, form: str, shelf_at: str | None) -> int:
    """Show RUN again, as measure did; 'last' is the one begun last.

    \b
    jovik runs show last --passes-table
    jovik runs show 20261123-101500-0a1b2c --format json
    """
    from jovik.cli.run_output import show_run
    from jovik.queries.runs import run_key
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        record = shelf.run(run_key(shelf, run))
        show_run(
            record,
            shelf.results_of_run(record.id),
            form,
            every_note=every_note,
            each_pass=each_pass,
            drive=shelf.sheet(record.drive).drive,
        )
    return 0


@runs.command("series")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@click.option(
    "--out", default="-", show_default=True, metavar="FILE", help="A .csv or .parquet file, or -."
)
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@format_option()
@shelf_option
def series(
    run: str, number: int | None, out: str, force: bool, form: str, shelf_at: str | None
) -> int:
    """Write the series of RUN: a row for every tenth of a second of every pass.

    With bytes, I/Os, errors, mean latency, temperature, and the clock time in UTC.

    \b
    jovik runs series last --step 3 --out write.csv
    jovik runs series last > everything.csv
    """

    from jovik.base.errors import UsageError
    from jovik.cli.written_files import say_written
    from jovik.queries.runs import run_key
    from jovik.queries.series import series_of
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.series import as_csv, as_parquet

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


@runs.command("meter")
@click.argument("run", shell_complete=run_names)
@click.option(
    "--quantity",
    type=click.Choice(["power", "noise"]),
    required=True,
    help="What the meter is of: watts, or dB(A).",
)
@click.option(
    "--out",
    required=True,
    type=click.Path(dir_okay=False, allow_dash=True, path_type=Path),
    help="The table to write; - is standard output.",
)
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@format_option()
@shelf_option
def meter(run: str, quantity: str, out: Path, force: bool, form: str, shelf_at: str | None) -> None:
    """Write what a meter beside a model drive would have shown during RUN.

    To try instrument logs without an instrument: seconds since it was switched on, which was before
    the first pass, and a value every 100 ms.

    \b
    jovik runs meter last --quantity power --out power.csv
    """
    from jovik.cli.written_files import say_written
    from jovik.queries.meters import meter_table
    from jovik.queries.runs import run_key
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    if out != Path("-"):
        refuse_foreign(out, None, force=force)
    with Shelf(where_from(shelf_at)) as shelf:
        text = meter_table(shelf, run_key(shelf, run), quantity)
    if out == Path("-"):
        click.echo(text, nl=False)
    else:
        write_output(out, text.encode(), force=force)
        say_written(form, [out], "wrote {}".format)


@runs.command("exclude")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@click.option("--why", required=True, metavar="TEXT", help="The reason, which is shown with it.")
@shelf_option
def exclude(run: str, number: int | None, why: str, shelf_at: str | None) -> None:
    """Set RUN aside: it stays on the shelf, and is in no verdict, ranking, picture or page.

    \b
    jovik runs exclude last --why "hung on the wrong cable"
    jovik runs exclude 20261123-101500-0a1b2c --step 3 --why "a backup was running"
    """
    from jovik.cli.echo import echo
    from jovik.queries.runs import run_key
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        key = run_key(shelf, run)
        shelf.corrections.exclude(key, number, why)
    echo(f"{_named(key, number)} is excluded: {why.strip()}; to take it back: {_undo(key, number)}")


@runs.command("include")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@shelf_option
def include(run: str, number: int | None, shelf_at: str | None) -> None:
    """Take RUN back that was excluded: it counts again.

    \b
    jovik runs include last
    """
    from jovik.cli.echo import echo
    from jovik.queries.runs import run_key
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        key = run_key(shelf, run)
        why = shelf.corrections.include(key, number)
    echo(f"{_named(key, number)} counts again; it had been excluded: {why}")


@runs.command("remove")
@click.argument("run", shell_complete=run_names)
@shelf_option
def remove(run: str, shelf_at: str | None) -> None:
    """Remove RUN and its passes from the shelf for good; its name is typed in full.

    \b
    jovik runs remove 20261123-101500-0a1b2c
    """
    from jovik.base.errors import UsageError
    from jovik.cli.echo import echo
    from jovik.queries.runs import run_key
    from jovik.runs.request import refuse_while_going_on
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        key = run_key(shelf, run)
        if key != run:
            raise UsageError(
                f"'{run}' is run {key}, and what is removed is gone",
                f"name it in full: jovik runs remove {key}; or set it aside: jovik runs exclude",
            )
        refuse_while_going_on(shelf.run(key))
        count = shelf.corrections.remove_run(key)
    echo(f"run {key} is removed, {count} {'pass' if count == 1 else 'passes'} with it")


def _named(key: str, number: int | None) -> str:
    return f"run {key}" if number is None else f"step {number} of run {key}"


def _undo(key: str, number: int | None) -> str:
    return f"jovik runs include {key}" + (f" --step {number}" if number is not None else "")
