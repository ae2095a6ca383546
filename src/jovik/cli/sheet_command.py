"""`jovik sheet`: the drive as sold and its claims, by option or as TOML."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from jovik.cli.completion import drives
from jovik.cli.echo import echo
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import F, format_option, shelf_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from jovik.sheets.changes import Change
    from jovik.sheets.sheet import Sheet

DRIVE_OPTIONS = {
    "maker": "Who makes it.",
    "model": "The model's name.",
    "capacity": "As printed, such as 1TB.",
    "interface": "Such as 'PCIe 4.0 x4' or 'SATA 6 Gb/s'.",
    "medium": "Such as 'solid state' or 'spinning'.",
    "price": "Such as '89 EUR'.",
    "warranty": "Such as '5 years'.",
    "endurance": "Rated bytes written, such as 600TB.",
    "flash": "Raw flash inside, such as 1100GB, where it is known.",
    "class": "The class it belongs to, where its interface does not tell: jovik fit --classes.",
}


@click.group(cls=NamingGroup)
def sheet() -> None:
    """Write down what the box says: the drive and its claims.

    \b
    jovik sheet new "Fjord 1TB" --maker Halden --capacity 1TB --price "89 EUR"
    jovik sheet claim "Fjord 1TB" "sequential read" 7000MB/s
    jovik sheet claim "Fjord 1TB" "random read 4KiB depth 32" "900,000 IOPS"
    jovik sheet edit "Fjord 1TB" --price "79 EUR"
    """


def _drive_options(command: F) -> F:
    for key, text in reversed(DRIVE_OPTIONS.items()):
        command = click.option(f"--{key}", help=text)(command)
    return command


@sheet.command()
@click.argument("name", required=False)
@_drive_options
@click.option(
    "--from",
    "source",
    type=click.Path(exists=True, dir_okay=False, allow_dash=True),
    help="A sheet in TOML, as 'show --format toml' gives it; - is standard input.",
)
@shelf_option
def new(name: str | None, source: str | None, shelf_at: str | None, **words: str | None) -> None:
    """Enrol the drive NAME, from options or from a TOML file."""
    from jovik.base.errors import UsageError
    from jovik.cli.streams import given_text
    from jovik.sheets.sheet import Sheet, drive_from_words, read_sheet
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    given = {k: v for k, v in words.items() if v is not None}
    if source is not None:
        if name is not None or given:
            raise UsageError("--from brings the whole sheet; give no name or other option with it")
        made = read_sheet(given_text(source), source)
    elif name is None or not name.strip():
        raise UsageError("a new sheet needs a name, or --from FILE", 'jovik sheet new "Fjord 1TB"')
    else:
        made = Sheet(drive_from_words({"name": name, **given}))
    with Shelf(where_from(shelf_at), create=True) as shelf:
        shelf.add_sheet(made)
    count = (
        f" with {len(made.claims)} claim{'s' if len(made.claims) != 1 else ''}"
        if made.claims
        else ""
    )
    echo(f"{made.drive.name} is on the shelf{count}")


@sheet.command()
@click.argument("name", shell_complete=drives)
@click.argument("what")
@click.argument("figure")
@click.option(
    "--up-to/--exactly",
    default=True,
    help="Whether the maker promises the best case ('up to').",
    show_default=True,
)
@click.option("--sustained", is_flag=True, help="The claim is about a long write.")
@click.option("--steady", is_flag=True, help="The claim is about the steady state.")
@click.option("--printed", default="", help="Where it says so, such as 'box, front'.")
@shelf_option
def claim(
    name: str,
    what: str,
    figure: str,
    up_to: bool,
    sustained: bool,
    steady: bool,
    printed: str,
    shelf_at: str | None,
) -> None:
    """Put a claim on the sheet of the drive NAME, in the place of the same one from there.

    WHAT is the start of a phrase ("sequential read", "random read 4KiB depth 32"); FIGURE a rate or
    an access time ("7000MB/s", "900,000 IOPS", "60us").
    """
    from jovik.base.errors import UsageError
    from jovik.sheets.sheet import parse_claim
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    try:
        one = parse_claim(
            what, figure, up_to=up_to, sustained=sustained, steady=steady, printed=printed
        )
    except ValueError as error:
        raise UsageError(f"the figure: {error}") from None
    with Shelf(where_from(shelf_at)) as shelf:
        changes = shelf.add_claim(name, one)
        known = shelf.sheet(name)
    was = next((f" (was {c.before})" for c in changes if c.before is not None), "")
    same = "" if changes else " (as it was)"
    echo(f"{known.drive.name}: {one.label}, {one.shown()}{was}{same}")


@sheet.command()
@click.argument("name", shell_complete=drives)
@click.argument("what")
@click.option("--printed", metavar="TEXT", help="Where it says so, where several places do.")
@shelf_option
def unclaim(name: str, what: str, printed: str | None, shelf_at: str | None) -> None:
    """Take a claim off the sheet of the drive NAME.

    \b
    jovik sheet unclaim "Fjord 1TB" "sequential read"
    """
    from jovik.sheets.changes import without_claim
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        before = shelf.sheet(name)
        changes = shelf.corrections.change_sheet(before, without_claim(before, what, printed))
    _say_changes(before, changes)


@sheet.command()
@click.argument("name", shell_complete=drives)
@_drive_options
@click.option(
    "--from",
    "source",
    type=click.Path(exists=True, dir_okay=False, allow_dash=True),
    help="The whole sheet in TOML, from a file or standard input (-).",
)
@shelf_option
def edit(name: str, source: str | None, shelf_at: str | None, **words: str | None) -> None:
    """Correct the sheet of the drive NAME: by option, or all of it in your editor.

    Without an option the sheet opens as TOML in $EDITOR, claims included. An empty text clears what
    an option stands for.

    \b
    jovik sheet edit "Fjord 1TB" --price "79 EUR"
    jovik sheet edit "Fjord 1TB"
    """
    from jovik.base.errors import UsageError
    from jovik.cli.streams import given_text
    from jovik.sheets.sheet import edited_sheet, read_sheet
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    given = {k: v for k, v in words.items() if v is not None}
    with Shelf(where_from(shelf_at)) as shelf:
        before = shelf.sheet(name)
        if source is not None and given:
            raise UsageError("--from brings the whole sheet; give no other option with it")
        if given:
            after = edited_sheet(before, given)
        elif source is not None:
            after = read_sheet(given_text(source), source)
        else:
            after = _in_editor(before)
        _say_changes(before, shelf.corrections.change_sheet(before, after))


def _in_editor(before: Sheet) -> Sheet:
    """The sheet as a person leaves it in the editor; a text that is none is kept in a file."""
    import os
    import sys
    import tempfile

    from jovik.base.errors import UsageError
    from jovik.sheets.sheet import read_sheet, write_sheet

    if not (sys.stdin.isatty() or os.environ.get("EDITOR") or os.environ.get("VISUAL")):
        raise UsageError(
            "nothing to change was given",
            f'say what: jovik sheet edit "{before.drive.name}" --price "79 EUR"',
        )
    written = click.edit(write_sheet(before), extension=".toml")
    if written is None:
        return before
    try:
        return read_sheet(written, "the sheet")
    except UsageError as error:
        with tempfile.NamedTemporaryFile(
            "w", suffix=".toml", prefix="jovik-sheet-", delete=False, encoding="utf-8"
        ) as kept:
            kept.write(written)
        raise UsageError(
            error.message,
            f'your text is kept: jovik sheet edit "{before.drive.name}" --from {kept.name}',
        ) from None


def _say_changes(before: Sheet, changes: Sequence[Change]) -> None:
    for one in changes:
        echo(f"{before.drive.name}: {one.words}")
    if not changes:
        echo(f"{before.drive.name}: nothing was changed")


@sheet.command()
@click.argument("name", shell_complete=drives)
@click.argument("new_name", metavar="NEW")
@shelf_option
def rename(name: str, new_name: str, shelf_at: str | None) -> None:
    """Call the drive NAME by another name; its runs, notes and samples stay with it."""
    from jovik.sheets.sheet import edited_sheet
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        before = shelf.sheet(name)
        after = edited_sheet(before, {"name": new_name})
        _say_changes(before, shelf.corrections.change_sheet(before, after))


@sheet.command()
@click.argument("name", shell_complete=drives)
@click.option("--with-runs", is_flag=True, help="Remove what was measured of it, too.")
@shelf_option
def remove(name: str, with_runs: bool, shelf_at: str | None) -> None:
    """Remove the drive NAME with its sheet and notes; one that was measured only --with-runs."""
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        drive = shelf.sheet(name).drive.name
        gone = shelf.corrections.remove_drive(drive, with_runs=with_runs)
    said = ", ".join(
        f"{n} {what if n != 1 else what.removesuffix('s')}" for what, n in gone.items() if n
    )
    echo(f"{drive} is removed" + (f", with {said}" if said else ""))


@sheet.command()
@click.argument("name", shell_complete=drives)
@format_option("toml")
@shelf_option
def show(name: str, form: str, shelf_at: str | None) -> None:
    """Show the sheet of the drive NAME."""
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.sheets.sheet import write_sheet
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.sheets import sheet_json, sheet_table

    with Shelf(where_from(shelf_at)) as shelf:
        found = shelf.sheet(name)
    if form == "toml":
        click.echo(write_sheet(found), nl=False)
    elif form == "json":
        emit_json(sheet_json(found), "sheet")
    elif form == "csv":
        emit_csv(
            ["claim", "figure", "unit", "up_to", "printed"],
            [(c.what, c.figure, c.unit, c.up_to, c.printed) for c in found.claims],
        )
    else:
        show_table(sheet_table(found))


@sheet.command("list")
@format_option()
@shelf_option
def list_sheets(form: str, shelf_at: str | None) -> None:
    """List the drives on the shelf."""
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.sheets import sheet_json, sheets_table

    with Shelf(where_from(shelf_at)) as shelf:
        found = [shelf.sheet(n) for n in shelf.drive_names()]
    if form == "json":
        emit_json({"drives": [sheet_json(s) for s in found]}, "sheets")
        return
    drives = sheets_table(found)
    if form == "csv":
        emit_csv(drives.columns, drives.rows)
    else:
        show_table(drives)
