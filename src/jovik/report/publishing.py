"""Publishing: the requested pages, their places, and the reviewer's text."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from jovik.base.errors import UsageError
from jovik.queries.ranking import ranking_report
from jovik.report.answers import answers_of
from jovik.report.desk import Desk, file_marks
from jovik.report.head_to_head import head_to_head
from jovik.report.html import Script, render_html
from jovik.report.language import ENGLISH, in_language, translator_for
from jovik.report.overview import front_page
from jovik.report.page_files import html_file, write_files, write_pages
from jovik.report.placeholders import highlighted
from jovik.report.privacy import folders_of, without_paths
from jovik.report.review import review
from jovik.report.review_data import gather
from jovik.report.reviewer_text import read_words, words_beside
from jovik.report.site import publish_site
from jovik.report.typed_figures import (
    TypedFiguresAnswer,
    held,
    shelf_figures,
    typed_figures,
)
from jovik.shelf.place import is_server
from jovik.shelf.store import Shelf

ENDINGS = (".html", ".md")


def check_pages(out: Path) -> None:
    """Refuse a place that is neither a page nor a folder.

    Raises
    ------
    UsageError
        With the endings there are.
    """
    if out.suffix and out.suffix not in ENDINGS and not out.is_dir():
        raise UsageError(
            f"{out} does not end in {' or '.join(ENDINGS)}", "or name a folder, for both"
        )


def publish_review(
    shelf: Shelf,
    name: str,
    out: Path,
    against: Sequence[str] = (),
    words: Path | None = None,
    *,
    language: str = ENGLISH,
    force: bool = False,
) -> list[Path]:
    """Write the review of a drive, and return its files.

    Parameters
    ----------
    out : Path
        A page (``.html`` or ``.md``), or a folder for both.
    words : Path, optional
        The reviewer's own text; the file for this drive beside the shelf unless given
        (`jovik.report.reviewer_text.words_beside`).
    language : str
        Of the page (`jovik.report.language`).
    force : bool
        Whether files that Jovik did not make may be overwritten.

    Raises
    ------
    UsageError
        The place is none, holds the words, or a page that Jovik did not make; or the drive was not
        measured.
    """
    check_pages(out)
    drive = shelf.sheets.get(name).drive.name
    usual = words_beside(shelf.where, drive)
    own = words or (usual if usual is not None and usual.exists() else None)
    page = shelf.sheets.page_addresses()[drive]
    pages = [out] if _is_page(out) else [out / f"{page}.html", out / f"{page}.md"]
    if own is not None and own.resolve() in [p.resolve() for p in pages]:
        raise UsageError(
            f"{own} holds your words, and the review would be written over it",
            "name another place with --out",
        )
    translator = translator_for(shelf, language)
    document = without_paths(
        review(shelf, drive, against, own), folders_of(shelf.results.copied(drive))
    )
    return write_pages(in_language(document, translator), pages, force=force)


def publish_pair(
    shelf: Shelf,
    first: str,
    second: str,
    out: Path,
    *,
    language: str = ENGLISH,
    force: bool = False,
) -> list[Path]:
    """Write a page of two drives, and return its files (see `publish_review`)."""
    check_pages(out)
    translator = translator_for(shelf, language)
    document = head_to_head(shelf, first, second)
    hide = {f for name in (first, second) for f in folders_of(shelf.results.copied(name))}
    addresses = shelf.sheets.page_addresses()
    drives = [shelf.sheets.get(name).drive.name for name in (first, second)]
    page = "-and-".join(addresses[name] for name in drives)
    pages = [out] if _is_page(out) else [out / f"{page}.html", out / f"{page}.md"]
    document = in_language(without_paths(document, sorted(hide)), translator)
    return write_pages(document, pages, force=force)


def desk_for(
    shelf: Shelf,
    name: str,
    against: Sequence[str] = (),
    words: Path | None = None,
    *,
    language: str = ENGLISH,
) -> Desk:
    """Return the review of a drive as a page that is made anew when the text or the shelf changes.

    A placeholder that cannot be filled is highlighted with the reason.

    Raises
    ------
    UnknownNameError, UsageError
        A drive or the language is not there, or the shelf has no place for words.
    """
    drive = shelf.sheets.get(name).drive.name
    translator = translator_for(shelf, language)
    own = words or words_beside(shelf.where, drive)
    if own is None:
        raise UsageError("a shelf on a server has no place for words", "name a file with --words")

    def make(script: Script) -> str:
        text = own if own.exists() else None
        document = review(shelf, drive, against, text, refused=highlighted)
        hidden = without_paths(document, folders_of(shelf.results.copied(drive)))
        return render_html(in_language(hidden, translator), script)

    shelf_files = [] if is_server(shelf.where) else [Path(shelf.where), Path(f"{shelf.where}-wal")]
    return Desk(make, lambda: file_marks([own, *shelf_files]))


def typed_figures_in(shelf: Shelf, name: str, words: Path | None = None) -> TypedFiguresAnswer:
    """Return the figures that a reviewer typed by hand, beside the shelf's.

    Raises
    ------
    UsageError
        There is no text, or the drive was not measured.
    """
    it = gather(shelf, name)
    drive = it.sheet.drive
    usual = words_beside(shelf.where, drive.name)
    own = words or usual
    if own is None or not own.exists():
        hint = f"write to {usual}, or name a file with --words" if usual else "--words names one"
        raise UsageError(f"there is no text about {drive.name}", hint)
    found = held(typed_figures(read_words(own), drive.currency), shelf_figures(it))
    return TypedFiguresAnswer(drive.name, tuple(found))


def publish_overview(
    shelf: Shelf,
    out: Path,
    *,
    each: bool = False,
    base_url: str | None = None,
    language: str = ENGLISH,
    on_written: Callable[[Path], None] = lambda _: None,
    force: bool = False,
) -> list[Path]:
    """Write the page of all drives, with links to the reviews in its folder.

    The files that were written.

    Parameters
    ----------
    out : Path
        ``FILE.html``, or a folder.
    each : bool
        Write the whole site (`jovik.report.site`): the review of every measured drive too.
    base_url : str, optional
        Where the site will be found.
    language : str
        Of every page (`jovik.report.language`).
    on_written : callable
        Called with each file as soon as it is written, because many reviews take long.
    force : bool
        Whether files that Jovik did not make may be overwritten.
    """
    check_pages(out)
    translator = translator_for(shelf, language)
    if out.suffix == ".md":
        raise UsageError("the page of all drives is HTML", "name a folder, or FILE.html")
    if each or base_url is not None:
        if _is_page(out):
            raise UsageError(f"{out} is one page, and a site has many", "name a folder with --out")
        return publish_site(
            shelf, out, translator, base_url=base_url, on_written=on_written, force=force
        )
    names = shelf.sheets.page_addresses()
    folder = out.parent if _is_page(out) else out
    existing = {
        drive: f"{name}.html" for drive, name in names.items() if (folder / f"{name}.html").exists()
    }
    page = out if _is_page(out) else out / "index.html"
    found = ranking_report(shelf)
    answers = answers_of(shelf, found, shelf.results.drives_in_order())
    document = front_page(shelf, found, existing, answers)
    document = without_paths(document, folders_of(shelf.results.copied()))
    file = html_file(in_language(document, translator), page)
    written = write_files([file], force=force)
    for path in written:
        on_written(path)
    return written


def _is_page(out: Path) -> bool:
    return out.suffix in ENDINGS and not out.is_dir()
