"""Carry out `jovik report`."""

from __future__ import annotations

import os
import sys
import threading
from pathlib import Path

import click

from jovik.base.atomic_files import write_output
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.cli.echo import echo
from jovik.cli.output import show
from jovik.cli.written_files import say_written
from jovik.report.desk import Desk, served
from jovik.report.letter import publish_letter
from jovik.report.page_files import make_folder
from jovik.report.placeholders import TEMPLATE
from jovik.report.publishing import (
    check_pages,
    desk_for,
    publish_overview,
    publish_pair,
    publish_review,
    typed_figures_in,
)
from jovik.report.reviewer_text import words_beside
from jovik.report.site import check_base_url
from jovik.shelf.store import Shelf


def report(
    drive: str | None,
    against: tuple[str, ...],
    beside: str | None,
    words: Path | None,
    edit: bool,
    language: str,
    every: bool,
    each: bool,
    base_url: str | None,
    letter: bool,
    check: bool,
    watch: bool,
    port: int | None,
    out: Path | None,
    force: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Write the review of DRIVE."""
    if every and edit:
        raise UsageError("--edit is of one drive's review", "name the DRIVE")
    if every == (drive is not None):
        raise UsageError(
            "give a DRIVE, or --all"
            if drive is None
            else "--all is a page of every drive, without DRIVE"
        )
    _refuse_mixtures(
        {"--letter": letter, "--check": check, "--watch": watch, "--all": every}
        | {"--beside": beside is not None},
        {"--against": bool(against), "--words": words is not None, "--edit": edit}
        | {"--language": language != "en", "--out": out is not None, "--port": port is not None},
    )
    if each and not every:
        raise UsageError("--each goes with --all")
    if base_url is not None and not each:
        raise UsageError("--base-url is of a site", "add --all --each")
    address = check_base_url(base_url) if base_url is not None else None
    with Shelf(where_from(shelf_at)) as shelf:
        if check and drive is not None:
            return show(typed_figures_in(shelf, drive, words), form)
        if watch and drive is not None:
            return _watch(desk_for(shelf, drive, against, words, language=language), port)
        if out is None:
            raise UsageError("--out is missing", "say where: --out review.html, or a folder")
        check_pages(out)
        if drive is None:
            return _overview(shelf, out, each, address, language, form, force)
        if beside is not None:
            written = publish_pair(shelf, drive, beside, out, language=language, force=force)
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


GOES_WITH = {
    "--letter": {"--out"},
    "--check": {"--words"},
    "--watch": {"--words", "--against", "--language", "--port"},
    "--all": {"--out", "--language"},
    "--beside": {"--out", "--language"},
}
"""What else an answer of its own goes with. A review goes with everything but a port."""


def _refuse_mixtures(kinds: dict[str, bool], options: dict[str, bool]) -> None:
    """Refuse two answers at once, and options that an answer has no use for."""
    chosen = [name for name, given in kinds.items() if given]
    if len(chosen) > 1:
        raise UsageError(f"{chosen[0]} does not go with {chosen[1]}", "ask for one at a time")
    of = chosen[0] if chosen else "a review"
    allowed = GOES_WITH.get(of, set(options) - {"--port"})
    for name, given in options.items():
        if given and name not in allowed:
            raise UsageError(f"{name} does not go with {of}", "see: jovik report --help")


def _overview(
    shelf: Shelf,
    out: Path,
    each: bool,
    address: str | None,
    language: str,
    form: str,
    force: bool,
) -> int:
    """Write the page of all drives, or the whole site."""
    written: list[Path] = []

    def on_written(path: Path) -> None:
        # People see each page as it is made; a script gets one answer.
        written.append(path)
        if form == "table":
            say_written(form, [path])

    publish_overview(
        shelf,
        out,
        each=each,
        base_url=address,
        language=language,
        on_written=on_written,
        force=force,
    )
    if form != "table":
        say_written(form, written)
    return 0


def _watch(desk: Desk, port: int | None) -> int:
    """Serve a page until a person ends it."""
    try:
        with served(desk, port or 0) as address:
            echo(f"open {address}; press Ctrl-C to stop")
            sys.stdout.flush()
            try:
                threading.Event().wait()
            except KeyboardInterrupt:
                echo("ended", err=True)
    except OSError as error:
        raise UsageError(
            f"port {port} cannot be used: {error.strerror}", "another --port"
        ) from None
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
