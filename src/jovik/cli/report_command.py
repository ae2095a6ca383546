"""`jovik report`: the review of a drive, or a page of all of them."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.completion import drives
from jovik.cli.echo import echo
from jovik.cli.options import force_option, format_option, shelf_option


@click.command()
@click.argument("drive", shell_complete=drives, required=False)
@click.option(
    "--against",
    multiple=True,
    metavar="DRIVE",
    shell_complete=drives,
    help="A drive that it would replace; repeat it at will.",
)
@click.option(
    "--words",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Your own text, Markdown. Default: words/NAME.md beside the shelf.",
)
@click.option(
    "--edit",
    is_flag=True,
    help="Open your text for DRIVE in $EDITOR first, with figures to put in.",
)
@click.option(
    "--language",
    default="en",
    show_default=True,
    metavar="CODE",
    help="Of headings and numbers: de, en, es or fr. Your text stays as it is.",
)
@click.option(
    "--all",
    "every",
    is_flag=True,
    help="A page of all drives with the ranking, and links to the reviews in the same folder.",
)
@click.option(
    "--each",
    is_flag=True,
    help="With --all: write the whole site, each measured drive's review too; only what changed.",
)
@click.option(
    "--base-url",
    metavar="URL",
    help="With --all --each: where the site will be found, for pictures of links and a site map.",
)
@click.option(
    "--out",
    required=True,
    type=click.Path(path_type=Path),
    help="FILE.html (all in one file), FILE.md (pictures beside it), or a folder for both.",
)
@force_option
@format_option()
@shelf_option
def report(
    drive: str | None,
    against: tuple[str, ...],
    words: Path | None,
    edit: bool,
    language: str,
    every: bool,
    each: bool,
    base_url: str | None,
    out: Path,
    force: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Make the review of DRIVE: the verdict first, then all that it rests on.

    \b
    jovik report "Comet 2TB" --against "Slate 1TB" --out review.html
    jovik report "Comet 2TB" --words mine.md --out site/
    jovik report --all --each --base-url https://reviews.example/ --out site/
    """
    from jovik.base.errors import UsageError
    from jovik.cli.written_files import say_written
    from jovik.report.publishing import check_pages, publish_overview, publish_review
    from jovik.report.reviewer_text import words_beside
    from jovik.report.site import check_base_url
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    if every and (edit or language != "en"):
        raise UsageError("--edit and --language are of one drive's review", "name the DRIVE")
    if every == (drive is not None):
        raise UsageError(
            "give a DRIVE, or --all"
            if drive is None
            else "--all is a page of every drive; leave the DRIVE out"
        )
    if each and not every:
        raise UsageError("--each goes with --all")
    if base_url is not None and not each:
        raise UsageError("--base-url is of a site", "add --all --each")
    address = check_base_url(base_url) if base_url is not None else None
    check_pages(out)
    with Shelf(where_from(shelf_at)) as shelf:
        if drive is None:
            written: list[Path] = []

            def said(path: Path) -> None:
                # People see each page as it is made; a script gets one answer.
                written.append(path)
                if form == "table":
                    say_written(form, [path])

            publish_overview(shelf, out, each=each, base_url=address, said=said, force=force)
            if form != "table":
                say_written(form, written)
            return 0
        usual = words_beside(shelf.where, shelf.sheet(drive).drive.name)
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
    """Open the reviewer's text in an editor; one that is not there begins with a draft."""
    import os
    import sys

    from jovik.base.atomic_files import write_output
    from jovik.base.errors import UsageError
    from jovik.report.page_files import make_folder
    from jovik.report.placeholders import TEMPLATE

    if place is None:
        raise UsageError("a shelf on a server has no place for words", "name a file with --words")
    if not (sys.stdin.isatty() or os.environ.get("EDITOR") or os.environ.get("VISUAL")):
        raise UsageError("there is no terminal to edit in", f"write to {place}")
    if not place.exists():
        make_folder(place.parent)
        write_output(place, TEMPLATE.encode())
    click.edit(filename=str(place))
