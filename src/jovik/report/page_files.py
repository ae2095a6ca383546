"""The files of a page: made in memory, checked together, then written.

No file is written before every one of them is known to be new or Jovik's own.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from jovik.base import atomic_files
from jovik.base.atomic_files import refuse_foreign, write_output
from jovik.base.errors import OutputError
from jovik.report.csv_appendix import HEADER
from jovik.report.document import CsvAttachment, Document
from jovik.report.html import render_html
from jovik.report.markdown import FIRST_LINES, as_markdown
from jovik.report.pictures import render_pictures

OWN_FILE_MARKS = {
    ".html": b'<meta name="generator" content="Jovik">',
    ".md": FIRST_LINES.encode(),
    ".csv": ",".join(HEADER).encode(),
    ".png": atomic_files.MADE_WITH_JOVIK,
    ".xml": atomic_files.MADE_WITH_JOVIK,
    ".toml": atomic_files.MADE_WITH_JOVIK,
    ".zip": atomic_files.MADE_WITH_JOVIK,
}
"""By the ending of a file, the bytes by which Jovik knows it again as its own."""


@dataclass(frozen=True)
class PageFile:
    """A file to be written: its place and its whole content."""

    path: Path
    content: bytes


def html_file(document: Document, out: Path) -> PageFile:
    """Return one self-contained page, which draws its own charts."""
    return PageFile(out, render_html(document).encode())


def markdown_files(document: Document, out: Path) -> list[PageFile]:
    """Return the page in Markdown, its pictures in a folder, and its raw figures beside it."""
    document = render_pictures(document)
    folder = out.with_name(f"{out.stem}-pictures")
    raw = [b for s in document.sections for b in s.blocks if isinstance(b, CsvAttachment)]
    return [
        PageFile(out, as_markdown(document, folder.name).encode()),
        *(PageFile(folder / f"{p.name}.png", p.light) for p in document.pictures),
        *(PageFile(out.with_name(f.name), f.csv.encode()) for f in raw),
    ]


def write_pages(document: Document, pages: Sequence[Path], *, force: bool) -> list[Path]:
    """Write one document in each of the forms that the endings of `pages` name."""
    files: list[PageFile] = []
    for page in pages:
        if page.suffix == ".html":
            files.append(html_file(document, page))
        else:
            files += markdown_files(document, page)
    return write_files(files, force=force)


def check_files(paths: Iterable[Path], *, force: bool) -> None:
    """Refuse if Jovik did not make one of the files that are there (UsageError)."""
    for path in paths:
        refuse_foreign(path, OWN_FILE_MARKS[path.suffix], force=force)


def write_files(files: Sequence[PageFile], *, force: bool = False) -> list[Path]:
    """Check all files, then write them and return their paths.

    Raises
    ------
    UsageError
        Jovik did not make one of the files that are there. Nothing is written.
    OutputError
        A file or its folder cannot be written.
    """
    check_files((f.path for f in files), force=force)
    for file in files:
        make_folder(file.path.parent)
        write_output(file.path, file.content, mark=OWN_FILE_MARKS[file.path.suffix], force=force)
    return [f.path for f in files]


def make_folder(folder: Path) -> None:
    """Create a folder for pages if there is none (OutputError if that fails)."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise OutputError(f"the folder {folder} cannot be made: {error.strerror}") from None
