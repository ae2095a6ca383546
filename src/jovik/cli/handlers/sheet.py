"""Carry out `jovik sheet`."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Sequence

import click

from jovik.answers.sheets import sheet
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.cli import output
from jovik.cli.echo import echo
from jovik.cli.streams import given_text
from jovik.sheets.changes import Change, same_claim, with_claim, without_claim
from jovik.sheets.sheet import (
    Claim,
    Sheet,
    check_fits,
    drive_from_words,
    edited_sheet,
    parse_claim,
    read_sheet,
    write_sheet,
)
from jovik.shelf.store import Shelf


def new(name: str | None, source: str | None, shelf_at: str | None, **words: str | None) -> None:
    """Enrol the drive NAME, from options or from a TOML file."""
    given = {k: v for k, v in words.items() if v is not None}
    if source is not None:
        if name is not None or given:
            raise UsageError("--from reads the whole sheet: give no name or other option")
        sheet = read_sheet(given_text(source), source)
    elif name is None or not name.strip():
        raise UsageError("a new sheet needs a name, or --from FILE", 'jovik sheet new "Fjord 1TB"')
    else:
        sheet = Sheet(drive_from_words({"name": name, **given}))
    with Shelf(where_from(shelf_at), create=True) as shelf:
        shelf.additions.enrol(sheet)
    count = (
        f" with {len(sheet.claims)} claim{'s' if len(sheet.claims) != 1 else ''}"
        if sheet.claims
        else ""
    )
    echo(f"{sheet.drive.name} is on the shelf{count}")


def claim(
    name: str,
    what: str,
    figure: str,
    up_to: bool,
    sustained: bool,
    steady: bool,
    printed: str,
    conditions: str,
    replace: bool,
    shelf_at: str | None,
) -> None:
    """Put a claim on the sheet of the drive NAME, in the place of the same one from there."""
    try:
        one = parse_claim(
            what,
            figure,
            up_to=up_to,
            sustained=sustained,
            steady=steady,
            printed=printed,
            conditions=conditions,
        )
    except ValueError as error:
        raise UsageError(str(error)) from None
    with Shelf(where_from(shelf_at)) as shelf:
        before = shelf.sheets.get(name)
        rivals = [c for c in before.claims if c.label == one.label and not same_claim(c, one)]
        replaced = [c for c in rivals if _is_replaced(c, one, replace)]
        kept = Sheet(before.drive, tuple(c for c in before.claims if c not in replaced))
        after = check_fits(with_claim(kept, one))
        changes = shelf.corrections.change_sheet(before, after)
    was = next((f" (was {c.before})" for c in changes if c.after and c.before), "")
    same = "" if changes else " (as it was)"
    echo(f"{before.drive.name}: {one.label}, {one.shown()}{was}{same}")
    for other in replaced:
        echo(f"{before.drive.name}: replaced {_with_source(other)}")
    for other in rivals:
        if other not in replaced:
            echo(
                f"the sheet also claims {_with_source(other)} for the same, and both are judged; "
                f'to remove one: jovik sheet unclaim "{before.drive.name}" "{other.what}" '
                f'--printed "{other.printed}"',
                err=True,
            )


def _is_replaced(other: Claim, one: Claim, replace: bool) -> bool:
    """Return True if a claim takes the place of one for the same from another source."""
    if replace or not sys.stdin.isatty():
        return replace
    question = f"the sheet claims {_with_source(other)} for the same. Replace it"
    return click.confirm(f"{question} by {_with_source(one)}?", default=False, err=True)


def _with_source(claim: Claim) -> str:
    return f"{claim.shown()} ({claim.printed or 'no source'})"


def unclaim(name: str, what: str, printed: str | None, shelf_at: str | None) -> None:
    """Take a claim off the sheet of the drive NAME."""
    with Shelf(where_from(shelf_at)) as shelf:
        before = shelf.sheets.get(name)
        changes = shelf.corrections.change_sheet(before, without_claim(before, what, printed))
    _say_changes(before, changes)


def edit(name: str, source: str | None, shelf_at: str | None, **words: str | None) -> None:
    """Correct the sheet of the drive NAME: by option, or all of it in your editor."""
    given = {k: v for k, v in words.items() if v is not None}
    with Shelf(where_from(shelf_at)) as shelf:
        before = shelf.sheets.get(name)
        if source is not None and given:
            raise UsageError("--from reads the whole sheet: give no other option")
        if given:
            after = edited_sheet(before, given)
        elif source is not None:
            after = read_sheet(given_text(source), source)
        else:
            after = _in_editor(before)
        _say_changes(before, shelf.corrections.change_sheet(before, after))


def _in_editor(before: Sheet) -> Sheet:
    """Return the sheet as edited by the user.

    A text that is none is kept in a file.
    """
    if not (sys.stdin.isatty() or os.environ.get("EDITOR") or os.environ.get("VISUAL")):
        raise UsageError(
            "there is no change to make",
            f'for example: jovik sheet edit "{before.drive.name}" --price "79 EUR"',
        )
    written = click.edit(write_sheet(before), extension=".toml")
    if written is None:
        return before
    try:
        return read_sheet(written, "the sheet")
    except UsageError as error:
        with tempfile.NamedTemporaryFile(
            "w", suffix=".toml", prefix="jovik-sheet-", delete=False, encoding="utf-8"
        ) as copy:
            copy.write(written)
        raise UsageError(
            error.message,
            f'your text is kept: jovik sheet edit "{before.drive.name}" --from {copy.name}',
        ) from None


def _say_changes(before: Sheet, changes: Sequence[Change]) -> None:
    for one in changes:
        echo(f"{before.drive.name}: {one.words}")
    if not changes:
        echo(f"{before.drive.name}: unchanged")


def rename(name: str, new_name: str, shelf_at: str | None) -> None:
    """Rename the drive NAME. Its runs, notes and samples stay with it."""
    with Shelf(where_from(shelf_at)) as shelf:
        before = shelf.sheets.get(name)
        after = edited_sheet(before, {"name": new_name})
        _say_changes(before, shelf.corrections.change_sheet(before, after))


def remove(name: str, with_runs: bool, shelf_at: str | None) -> None:
    """Remove the drive NAME with its sheet and notes. With runs, only if --with-runs is given."""
    with Shelf(where_from(shelf_at)) as shelf:
        drive = shelf.sheets.get(name).drive.name
        gone = shelf.corrections.remove_drive(drive, with_runs=with_runs)
    removed = ", ".join(
        f"{n} {what if n != 1 else what.removesuffix('s')}" for what, n in gone.items() if n
    )
    echo(f"{drive} is removed" + (f", with {removed}" if removed else ""))


def show(name: str, form: str, shelf_at: str | None) -> int:
    """Show the sheet of the drive NAME."""
    with Shelf(where_from(shelf_at)) as shelf:
        answer = sheet(shelf, name)
    if form == "toml":
        click.echo(write_sheet(answer.sheet), nl=False)
        return 0
    return output.show(answer, form)
