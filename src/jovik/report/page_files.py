"""Writing pages: whole or not at all, and never over what somebody else wrote."""

from __future__ import annotations

from pathlib import Path

from jovik.base import atomic_files
from jovik.base.atomic_files import cannot_write, refuse_foreign, write_atomically
from jovik.base.errors import OutputError
from jovik.report.csv_appendix import HEADER
from jovik.report.document import CsvAttachment, Document
from jovik.report.html import render_html
from jovik.report.markdown import MADE, as_markdown
from jovik.report.pictures import render_pictures

OURS = {
    ".html": b'<meta name="generator" content="Jovik">',
    ".md": MADE.encode(),
    ".csv": ",".join(HEADER).encode(),
    ".png": atomic_files.MADE,
}
"""What tells a file of ours from somebody else's."""


def write_html(document: Document, out: Path, *, force: bool = False) -> list[Path]:
    """One self-contained page; what it draws by itself needs no picture."""
    finished = render_pictures(document, charts=False)
    return [_write(out, render_html(finished).encode(), force)]


def write_markdown(document: Document, out: Path, *, force: bool = False) -> list[Path]:
    """The page in Markdown, its pictures in a folder and its raw figures beside it."""
    document = render_pictures(document)
    folder = out.with_name(f"{out.stem}-pictures")
    written = [_write(out, as_markdown(document, folder.name).encode(), force)]
    _make(folder)
    for picture in document.pictures:
        written.append(_write(folder / f"{picture.name}.png", picture.light, force))
    raw = [b for s in document.sections for b in s.blocks if isinstance(b, CsvAttachment)]
    return written + [_write(out.with_name(f.name), f.csv.encode(), force) for f in raw]


def make_folder(folder: Path) -> None:
    """A folder for pages, where there is none.

    Raises
    ------
    OutputError
        It cannot be made.
    """
    _make(folder)


def _make(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise OutputError(f"the folder {folder} cannot be made: {error.strerror}") from None


def _write(out: Path, content: bytes, force: bool) -> Path:
    refuse_foreign(out, (OURS[out.suffix],), force=force)
    try:
        write_atomically(out, content)
    except OSError as error:
        raise cannot_write(out, error) from None
    return out
