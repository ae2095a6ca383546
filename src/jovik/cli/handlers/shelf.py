"""Carry out `jovik shelf`."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

from jovik.answers.corrections import CorrectionsAnswer
from jovik.base.settings import where_from
from jovik.base.text_files import read_text
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json, show
from jovik.cli.streams import file_or_output
from jovik.cli.written_files import say_written
from jovik.sheets.reading import read_mapped, table_form
from jovik.sheets.table_file import read_table
from jovik.shelf.store import Shelf


def export_command(
    drive: str | None, out: Path, force: bool, form: str, shelf_at: str | None
) -> None:
    """Write the shelf to a zip of JSON and CSV, which `import` takes anywhere."""
    with Shelf(where_from(shelf_at)) as shelf, file_or_output(out, ".zip") as file:
        count = shelf.export(file, drive, force=force)
    if str(out) == "-":
        echo(f"wrote standard output: {_counted(count, 'run')}", err=True)
    else:
        say_written(form, [out], lambda path: f"wrote {path}: {_counted(count, 'run')}")


def import_command(
    source: Path, drive: str | None, mapping: Path | None, form: str, shelf_at: str | None
) -> None:
    """Import the records of SOURCE."""
    with Shelf(where_from(shelf_at), create=True) as shelf:
        if mapping is not None:
            _note_table(shelf, source, mapping, drive, form)
            return
        added = shelf.merge(source, drive)
    if form != "table":
        _show_added(asdict(added), form)
        return
    parts = [
        (added.drives, "drive"),
        (added.runs, "run"),
        (added.passes, "pass"),
        (added.notes, "note or reading"),
        (added.recordings, "recording"),
    ]
    counts = ", ".join(_counted(n, what) for n, what in parts)
    echo(f"added {counts}; existing records are unchanged")


def _show_added(added: dict[str, int], form: str) -> None:
    """How many of each sort are new, for a script."""
    if form == "json":
        emit_json({"added": added}, "added")
    else:
        emit_csv(["sort", "added"], list(added.items()))


def _counted(count: int, what: str) -> str:
    plural = {"pass": "passes", "note or reading": "notes and readings"}.get(what, f"{what}s")
    return f"{count:,} {what if count == 1 else plural}"


def _note_table(found: Shelf, source: Path, mapping: Path, drive: str | None, form: str) -> None:
    """Note a foreign table's figures.

    A drive that has no sheet is refused before anything is written.
    """

    text = read_table(source)
    read = read_mapped(text, str(source), read_text(mapping), str(mapping))
    if reformatted := table_form(text):
        echo(f"{source}: {reformatted}", err=True)
    named = {found.sheets.get(n).drive.name: readings for n, readings in read.items()}
    if drive is not None:
        wanted = found.sheets.get(drive).drive.name
        named = {n: r for n, r in named.items() if n == wanted}
    count, of = 0, 0
    for name, readings in named.items():
        known = {
            (r.what, r.value, r.unit, r.method, r.instrument) for r in found.notes.readings(name)
        }
        new = [
            r
            for r in dict.fromkeys(readings)
            if (r.what, r.value, r.unit, r.method, r.instrument) not in known
        ]
        if new:
            count, of = count + len(new), of + 1
            found.additions.note(name, [], new)
    if form != "table":
        _show_added({"drives": of, "notes": count}, form)
        return
    echo(
        f"noted {_counted(count, 'reading')} of {_counted(of, 'drive')}"
        + ("; the others existed already" if of < len(named) or not count else "")
    )


def check(quiet: bool, form: str, shelf_at: str | None) -> int:
    """Check that the shelf is whole: the database, and every record, series and histogram in it."""
    with Shelf(where_from(shelf_at)) as shelf:
        checked = shelf.check()
    if quiet and not checked.faults:
        return 0
    if form == "json":
        emit_json({"counts": checked.counts, "faults": list(checked.faults)}, "check")
    elif form == "csv":
        emit_csv(["fault"], [(f,) for f in checked.faults])
    else:
        for fault in checked.faults:
            echo(f"fault: {fault}")
        counts = ", ".join(f"{n:,} {what}" for what, n in checked.counts.items())
        echo(f"{'whole' if not checked.faults else f'{len(checked.faults)} faults'}: {counts}")
        if checked.faults:
            echo(
                "damaged records are left out everywhere; to get them back, restore a "
                "backup of the "
                "shelf"
            )
    return 1 if checked.faults else 0


def backup(out: Path, force: bool, quiet: bool, form: str, shelf_at: str | None) -> None:
    """Copy the shelf as of this moment to a file, while others continue to write to it."""
    with Shelf(where_from(shelf_at)) as shelf:
        shelf.backup(out, force=force)
    if not quiet:
        say_written(form, [out], "wrote {0}; use it with --shelf {0}".format)


def log_command(drive: str | None, form: str, shelf_at: str | None) -> int:
    """List the corrections of the shelf, newest first."""
    with Shelf(where_from(shelf_at)) as shelf:
        return show(CorrectionsAnswer(tuple(shelf.changes.entries(drive))), form)
