"""`jovik shelf`: keep, move, merge and share the library."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.options import format_option, shelf_option
from jovik.cli.say import say


@click.group()
def shelf() -> None:
    """Keep, move, merge and share the shelf.

    \b
    jovik shelf export --out everything.zip
    jovik shelf import everything.zip --shelf postgresql://me@bench/lab
    jovik shelf backup --out copy.db
    """


@shelf.command("export")
@click.option("--drive", metavar="NAME", help="Only this drive and its runs.")
@click.option("--out", required=True, type=click.Path(dir_okay=False, path_type=Path), help="The zip to write.")
@shelf_option
def export_command(drive: str | None, out: Path, shelf_at: str | None) -> None:
    """Write the shelf to a zip of JSON and CSV, which `import` takes anywhere."""
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as found:
        count = found.export(out, drive)
    say(f"wrote {out}: {count} {'run' if count == 1 else 'runs'}")


@shelf.command("import")
@click.argument("source", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--drive", metavar="NAME", help="Only this drive and its runs.")
@shelf_option
def import_command(source: Path, drive: str | None, shelf_at: str | None) -> None:
    """Bring what the zip SOURCE holds onto the shelf; what is there already stays, so that doing it twice changes nothing."""
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at), create=True) as found:
        added = found.merge(source, drive)
    say(f"added {added.drives} drives, {added.runs} runs, {added.passes} passes, {added.notes} notes and readings; the rest was there already")


@shelf.command()
@format_option()
@shelf_option
def check(form: str, shelf_at: str | None) -> int:
    """Check that the shelf is whole: the database, and every record, series and histogram in it. Exit status 1 when it is not."""
    from jovik.cli.output import emit_csv, emit_json
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as found:
        checked = found.check()
    if form == "json":
        emit_json({"counts": checked.counts, "faults": list(checked.faults)})
    elif form == "csv":
        emit_csv(["fault"], [(f,) for f in checked.faults])
    else:
        for fault in checked.faults:
            say(f"fault: {fault}")
        counts = ", ".join(f"{n:,} {what}" for what, n in checked.counts.items())
        say(f"{'whole' if not checked.faults else f'{len(checked.faults)} faults'}: {counts}")
    return 1 if checked.faults else 0


@shelf.command()
@click.option("--out", required=True, type=click.Path(dir_okay=False, path_type=Path), help="The file to write; it is a shelf itself.")
@shelf_option
def backup(out: Path, shelf_at: str | None) -> None:
    """Copy the shelf as it is at this moment to a file, while others go on writing to it."""
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as found:
        found.backup(out)
    say(f"wrote {out}; use it with --shelf {out}")
