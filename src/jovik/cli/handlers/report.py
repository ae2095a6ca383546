"""Carry out `jovik report`."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from jovik.base.atomic_files import write_output
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.cli.echo import echo
from jovik.cli.written_files import say_written
from jovik.report.letter import publish_letter
from jovik.report.page_files import make_folder
from jovik.report.placeholders import TEMPLATE
from jovik.report.publishing import check_pages, publish_overview, publish_review
from jovik.report.reviewer_text import words_beside
from jovik.report.site import check_base_url
from jovik.shelf.store import Shelf


def report(
    drive: str | None,
    against: tuple[str, ...],
    words: Path | None,
    edit: bool,
    language: str,
    every: bool,
    each: bool,
    base_url: str | None,
    letter: bool,
    out: Path,
    force: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Write the review of DRIVE."""
    if every and (edit or language != "en"):
        raise UsageError("--edit and --language are of one drive's review", "name the DRIVE")
    if every == (drive is not None):
        raise UsageError(
            "give a DRIVE, or --all"
            if drive is None
            else "--all is a page of every drive, without DRIVE"
        )
    if letter and (every or against or words or edit or language != "en"):
        raise UsageError("--letter is of one drive, without other options of a page")
    if each and not every:
        raise UsageError("--each goes with --all")
    if base_url is not None and not each:
        raise UsageError("--base-url is of a site", "add --all --each")
    address = check_base_url(base_url) if base_url is not None else None
    check_pages(out)
    with Shelf(where_from(shelf_at)) as shelf:
        if drive is None:
            written: list[Path] = []

            def on_written(path: Path) -> None:
                # People see each page as it is made; a script gets one answer.
                written.append(path)
                if form == "table":
                    say_written(form, [path])

            publish_overview(
                shelf, out, each=each, base_url=address, on_written=on_written, force=force
            )
            if form != "table":
                say_written(form, written)
            return 0
        if letter:
            say_written(form, publish_letter(shelf, drive, out, force=force))
            return 0
        usual = words_beside(shelf.where, shelf.sheets.get(drive).drive.name)
        if edit:
            _edit(words or usual)
        written = publish_review(shelf, drive, out, against, words, language=language, force=force)
        say_written(form, written)
    if words is None and usual is not None and not usual.exists():
        echo(
            f"your own words would go in: write them to {usual}, or name a file with --words",
            err=True,
        )
    return 0


def _edit(place: Path | None) -> None:
    """Open the reviewer's text in an editor, or a draft if there is none."""
    if place is None:
        raise UsageError("a shelf on a server has no place for words", "name a file with --words")
    if not (sys.stdin.isatty() or os.environ.get("EDITOR") or os.environ.get("VISUAL")):
        raise UsageError("there is no terminal to edit in", f"write to {place}")
    if not place.exists():
        make_folder(place.parent)
        write_output(place, TEMPLATE.encode())
    click.edit(filename=str(place))
