"""Writing pages: whole or not at all, and never over what somebody else wrote."""

from __future__ import annotations

import os
from pathlib import Path

from jovik.base.errors import OutputError, UsageError
from jovik.report.csv_appendix import HEADER
from jovik.report.document import CsvAttachment, Document
from jovik.report.html import render_html
from jovik.report.markdown import MADE, as_markdown

OURS = {".html": '<meta name="generator" content="Jovik">', ".md": MADE, ".csv": ",".join(HEADER)}
"""What tells a page of ours from somebody else's, near its beginning."""


def write_html(document: Document, out: Path) -> list[Path]:
    """One self-contained page."""
    return [_write(out, render_html(document).encode())]


def write_markdown(document: Document, out: Path) -> list[Path]:
    """The page in Markdown, its pictures in a folder and its raw figures beside it."""
    folder = out.with_name(f"{out.stem}-pictures")
    written = [_write(out, as_markdown(document, folder.name).encode())]
    _make(folder)
    for picture in document.pictures:
        written.append(_write(folder / f"{picture.name}.png", picture.light))
    raw = [b for s in document.sections for b in s.blocks if isinstance(b, CsvAttachment)]
    return written + [_write(out.with_name(f.name), f.csv.encode()) for f in raw]


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


def _write(out: Path, content: bytes) -> Path:
    try:
        mark = OURS.get(out.suffix)
        if mark is not None and out.exists() and mark.encode() not in out.read_bytes()[:4096]:
            raise UsageError(
                f"{out} is there already, and Jovik did not make it",
                "name another place, or move it away",
            )
        part = out.with_name(f".{out.name}.part")
        part.write_bytes(content)
        os.replace(part, out)
    except OSError as error:
        raise OutputError(f"{out} cannot be written: {error.strerror}") from None
    return out
