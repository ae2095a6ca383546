"""The user's tables as text: CSV as it is, a workbook's first sheet as CSV."""

from __future__ import annotations

import contextlib
import csv
import io
import lzma
import zipfile
import zlib
from pathlib import Path

from jovik.base.errors import MissingPackageError, UsageError
from jovik.base.installation import to_add
from jovik.base.limits import (
    WORKBOOK_BYTES,
    WORKBOOK_COLUMNS,
    WORKBOOK_ROWS,
    WORKBOOK_TAGS,
)
from jovik.base.text_files import read_text

WORKBOOK = ".xlsx"


def read_table(path: Path) -> str:
    """Return the text of a CSV file, or of the first sheet of an .xlsx workbook as CSV.

    Raises
    ------
    UsageError
        It cannot be read, is longer than any such table, or is no workbook.
    MissingPackageError
        The package that reads workbooks is not installed.
    """
    if path.suffix.lower() != WORKBOOK:
        return read_text(path)
    try:
        import openpyxl  # type: ignore[import-untyped]
    except ImportError:
        raise MissingPackageError(
            "reading .xlsx needs the package openpyxl", to_add("excel")
        ) from None
    _refuse_too_long(path)
    out = io.StringIO()
    written = csv.writer(out, lineterminator="\n")
    try:
        # Row by row: a single cell may lie in the last column of the last row.
        book = openpyxl.load_workbook(path, read_only=True, data_only=True, keep_links=False)
        with contextlib.closing(book):
            sheet = book.worksheets[0]
            sheet.reset_dimensions()
            for number, row in enumerate(sheet.iter_rows(values_only=True), start=1):
                if number > WORKBOOK_ROWS or len(row) > WORKBOOK_COLUMNS:
                    raise UsageError(
                        f"{path} has more than {WORKBOOK_ROWS:,} rows or {WORKBOOK_COLUMNS:,} "
                        "columns",
                        "is it the right file?",
                    )
                written.writerow(["" if cell is None else cell for cell in row])
    except UsageError:
        raise
    except Exception as error:
        # A damaged workbook fails in the package's own ways, whatever they are.
        raise UsageError(f"{path} cannot be read as a workbook: {error}") from None
    return out.getvalue()


def _refuse_too_long(path: Path) -> None:
    """Refuse a workbook that would take much memory, before it is parsed (UsageError)."""
    try:
        with zipfile.ZipFile(path) as archive:
            members = archive.infolist()
            size = sum(member.file_size for member in members)
            if size > WORKBOOK_BYTES:
                raise UsageError(
                    f"{path} is longer than {WORKBOOK_BYTES:,} bytes", "is it the right file?"
                )
            tags = sum(archive.read(member).count(b"<") for member in members)
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror or error}") from None
    except (
        *(zipfile.BadZipFile, zlib.error, lzma.LZMAError),
        *(ValueError, EOFError, NotImplementedError, RuntimeError),
    ):
        raise UsageError(f"{path} is no workbook") from None
    if tags > WORKBOOK_TAGS:
        raise UsageError(f"{path} has more than {WORKBOOK_TAGS:,} tags", "is it the right file?")
