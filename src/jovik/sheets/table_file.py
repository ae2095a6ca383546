"""Tables that a person brings along, as text: CSV as it is, a workbook's first sheet as CSV."""

from __future__ import annotations

import csv
import io
import zipfile
from pathlib import Path

from jovik.base.errors import MissingPackageError, UsageError
from jovik.base.installation import to_add
from jovik.base.text_files import MOST_BYTES, read_text

WORKBOOK = ".xlsx"


def read_table(path: Path) -> str:
    """The text of a CSV file, or of the first sheet of an .xlsx workbook as CSV.

    Raises
    ------
    UsageError
        It cannot be read, is longer than any such table, or is no workbook.
    MissingPackageError
        The packages that read workbooks are not installed.
    """
    if path.suffix.lower() != WORKBOOK:
        return read_text(path)
    try:
        import openpyxl  # type: ignore[import-untyped]  # noqa: F401 (pandas reads by it)
        import pandas as pd
    except ImportError:
        raise MissingPackageError(
            "reading .xlsx needs the packages pandas and openpyxl", to_add("excel")
        ) from None
    _refuse_too_long(path)
    try:
        cells = pd.read_excel(path, header=None, dtype=object, engine="openpyxl")
    except Exception as error:
        # A damaged workbook fails in the packages' own ways, whatever they are.
        raise UsageError(f"{path} cannot be read as a workbook: {error}") from None
    out = io.StringIO()
    written = csv.writer(out, lineterminator="\n")
    written.writerows([["" if pd.isna(c) else c for c in row] for row in cells.values.tolist()])
    return out.getvalue()


def _refuse_too_long(path: Path) -> None:
    try:
        with zipfile.ZipFile(path) as archive:
            size = sum(member.file_size for member in archive.infolist())
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}") from None
    except zipfile.BadZipFile:
        raise UsageError(f"{path} is no workbook") from None
    if size > MOST_BYTES:
        raise UsageError(f"{path} is longer than {MOST_BYTES:,} bytes", "is it the right file?")
