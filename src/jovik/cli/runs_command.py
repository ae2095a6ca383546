"""`jovik runs`: what was measured, and the same figures again."""

from __future__ import annotations

import click

from jovik.cli.completion import drives, run_names
from jovik.cli.options import format_option, shelf_option


class ListFirst(click.Group):
    """A group whose bare form, with or without a drive, is its member `list`."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Put the member's name before what is no member."""
        asks = {"-h", "--help"} & set(args[:1])
        if not asks and (not args or args[0] not in self.commands):
            args = ["list", *args]
        return super().parse_args(ctx, args)


@click.group(cls=ListFirst, name="runs")
def runs() -> None:
    """What was measured: jovik runs [DRIVE], newest first, and each run again.

    \b
    jovik runs
    jovik runs list "Comet 2TB" --since 2026-11-01
    jovik runs show last
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
        emit_json({"runs": [run_json(x) for x in found]})
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
@format_option()
@shelf_option
def show(run: str, every_note: bool, form: str, shelf_at: str | None) -> int:
    """Show RUN again, as measure did; 'last' is the one begun last.

    \b
    jovik runs show last
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
            capacity_bytes=shelf.sheet(record.drive).drive.capacity_bytes,
        )
    return 0


@runs.command("series")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@click.option("--out", default="-", show_default=True, metavar="FILE", help="A .csv file, or -.")
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@shelf_option
def series(run: str, number: int | None, out: str, force: bool, shelf_at: str | None) -> int:
    """Write the series of RUN as CSV: a row for every tenth of a second of every pass.

    \b
    jovik runs series last --step 3 --out write.csv
    jovik runs series last > everything.csv
    """
    from pathlib import Path

    from jovik.base.atomic_files import write_atomically
    from jovik.base.errors import UsageError
    from jovik.cli.echo import echo
    from jovik.frames import slices
    from jovik.queries.runs import run_key
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        frame = slices(shelf, run_key(shelf, run))
    if number is not None:
        there = sorted({int(p) + 1 for p in frame["position"]})
        if number not in there:
            raise UsageError(
                f"step {number} of this run has no series",
                f"it has steps {', '.join(map(str, there))}",
            )
        frame = frame[frame["position"] == number - 1]
    text = frame.to_csv(index=False)
    if out == "-":
        click.echo(text, nl=False)
        return 0
    if Path(out).exists() and not force:
        raise UsageError(f"{out} is there already", "give another name, or --force")
    write_atomically(Path(out), text.encode())
    echo(f"wrote {out}")
    return 0
