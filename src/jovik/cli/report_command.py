"""`jovik report`: the review of a drive, or a page of all of them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jovik.cli.completing import drives
from jovik.cli.options import shelf_option
from jovik.cli.say import say

if TYPE_CHECKING:
    from jovik.report.document import Document
    from jovik.shelf.store import Shelf

ENDINGS = (".html", ".md")


@click.command()
@click.argument("drive", shell_complete=drives, required=False)
@click.option("--against", multiple=True, metavar="DRIVE", shell_complete=drives, help="A drive that it would replace; repeat it at will.")
@click.option("--words", type=click.Path(dir_okay=False, path_type=Path), help="Your own text, Markdown. Default: words/NAME.md beside the shelf.")
@click.option("--all", "every", is_flag=True, help="A page of all drives with the ranking, and links to the reviews in the same folder.")
@click.option("--each", is_flag=True, help="With --all: write the review of every measured drive too.")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path), help="FILE.html (all in one file), FILE.md (pictures beside it), or a folder for both."
)
@shelf_option
def report(drive: str | None, against: tuple[str, ...], words: Path | None, every: bool, each: bool, out: Path, shelf_at: str | None) -> int:
    """Make the review of DRIVE: the verdict first, then all that it rests on.

    \b
    jovik report "Comet 2TB" --against "Slate 1TB" --out review.html
    jovik report "Comet 2TB" --words mine.md --out site/
    jovik report --all --each --out site/
    """
    from jovik.errors import Misuse
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    if every == (drive is not None):
        raise Misuse("give a DRIVE, or --all" if drive is None else "--all is a page of every drive; leave the DRIVE out")
    if each and not every:
        raise Misuse("--each goes with --all")
    if out.suffix and out.suffix not in ENDINGS and not out.is_dir():
        raise Misuse(f"{out} does not end in {' or '.join(ENDINGS)}", "or name a folder, for both")
    with Shelf(where_from(shelf_at)) as shelf:
        if drive is None:
            return _all(shelf, out, each)
        _one(shelf, shelf.sheet(drive).drive.name, against, words, out)
    return 0


def _one(shelf: Shelf, drive: str, against: tuple[str, ...], words: Path | None, out: Path) -> None:
    from jovik.errors import Misuse
    from jovik.report.comparison import page_names
    from jovik.report.review import review
    from jovik.report.words import words_beside

    usual = words_beside(shelf.where, drive)
    own = words or (usual if usual is not None and usual.exists() else None)
    pages = _pages(out, page_names(shelf.drive_names())[drive])
    if own is not None and own.resolve() in [p.resolve() for p in pages]:
        raise Misuse(f"{own} holds your words, and the review would be written over it", "name another place with --out")
    _write(review(shelf, drive, against, own), pages)
    if own is None and usual is not None:
        say(f"your own words would go in: write them to {usual}, or name a file with --words", err=True)


def _all(shelf: Shelf, out: Path, each: bool) -> int:
    from jovik.errors import Misuse
    from jovik.report.comparison import comparison, page_names
    from jovik.report.files import make_folder, write_html

    if out.suffix == ".md":
        raise Misuse("the page of all drives is HTML", "name a folder, or FILE.html")
    names = page_names(shelf.drive_names())
    folder = out if not out.suffix else out.parent
    if each:
        for drive in dict.fromkeys(r.drive for r in shelf.latest_results(ladders=True)):
            _one(shelf, drive, (), None, folder)
    there = [(drive, f"{name}.html") for drive, name in names.items() if (folder / f"{name}.html").exists()]
    make_folder(folder)
    for path in write_html(comparison(shelf, there), out if out.suffix else out / "index.html"):
        say(f"wrote {path}")
    return 0


def _pages(out: Path, name: str) -> list[Path]:
    """The pages that an `--out` asks for."""
    return [out] if out.suffix in ENDINGS and not out.is_dir() else [out / f"{name}.html", out / f"{name}.md"]


def _write(document: Document, pages: list[Path]) -> None:
    from jovik.report.files import make_folder, write_html, write_markdown

    for page in pages:
        make_folder(page.parent)
        written = write_html(document, page) if page.suffix == ".html" else write_markdown(document, page)
        for path in written:
            say(f"wrote {path}")
