"""Publishing: which pages a reader asked for, where they go, and the words that go in."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from jovik.base.errors import UsageError
from jovik.report.overview import comparison, page_names
from jovik.report.page_files import make_folder, write_html, write_markdown
from jovik.report.privacy import folders_of, without_paths
from jovik.report.review import review
from jovik.report.reviewer_text import words_beside
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
    force: bool = False,
) -> list[Path]:
    """Write the review of a drive; the files that were written.

    Parameters
    ----------
    out : Path
        A page (``.html`` or ``.md``), or a folder for both.
    words : Path, optional
        The reviewer's own text; the file for this drive beside the shelf unless given
        (`jovik.report.reviewer_text.words_beside`).
    force : bool
        Whether files that Jovik did not make may be overwritten.

    Raises
    ------
    UsageError
        The place is none, holds the words, or a page that Jovik did not make; or the drive was not
        measured.
    """
    check_pages(out)
    drive = shelf.sheet(name).drive.name
    usual = words_beside(shelf.where, drive)
    own = words or (usual if usual is not None and usual.exists() else None)
    page = page_names(shelf.drive_names())[drive]
    pages = [out] if _is_page(out) else [out / f"{page}.html", out / f"{page}.md"]
    if own is not None and own.resolve() in [p.resolve() for p in pages]:
        raise UsageError(
            f"{own} holds your words, and the review would be written over it",
            "name another place with --out",
        )
    document = without_paths(review(shelf, drive, against, own), folders_of(shelf.copied(drive)))
    written: list[Path] = []
    for one in pages:
        make_folder(one.parent)
        written += (
            write_html(document, one, force=force)
            if one.suffix == ".html"
            else write_markdown(document, one, force=force)
        )
    return written


def publish_overview(
    shelf: Shelf,
    out: Path,
    *,
    each: bool = False,
    said: Callable[[Path], None] = lambda _: None,
    force: bool = False,
) -> list[Path]:
    """Write the page of all drives, with links to the reviews in its folder.

    The files that were written.

    Parameters
    ----------
    out : Path
        ``FILE.html``, or a folder.
    each : bool
        Write the review of every measured drive too.
    said : callable
        Told each file as soon as it is written: many reviews take long.
    force : bool
        Whether files that Jovik did not make may be overwritten.
    """
    check_pages(out)
    if out.suffix == ".md":
        raise UsageError("the page of all drives is HTML", "name a folder, or FILE.html")
    names = page_names(shelf.drive_names())
    folder = out.parent if _is_page(out) else out
    written: list[Path] = []

    def keep(paths: Sequence[Path]) -> None:
        for path in paths:
            said(path)
        written.extend(paths)

    if each:
        for drive in dict.fromkeys(r.drive for r in shelf.latest_results(ladders=True)):
            keep(publish_review(shelf, drive, folder, force=force))
    there = [
        (drive, f"{name}.html")
        for drive, name in names.items()
        if (folder / f"{name}.html").exists()
    ]
    make_folder(folder)
    page = out if _is_page(out) else out / "index.html"
    document = without_paths(comparison(shelf, there), folders_of(shelf.copied()))
    keep(write_html(document, page, force=force))
    return written


def _is_page(out: Path) -> bool:
    return out.suffix in ENDINGS and not out.is_dir()
