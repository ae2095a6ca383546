"""An archive from elsewhere, read within bounds.

It is read in memory, never unpacked to disk, and no file of it is parsed before its size and the
number of its parts are known to be such as a shelf has.
"""

from __future__ import annotations

import csv
import hashlib
import io
import json
import struct
import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from jovik.base import limits
from jovik.base.errors import UsageError
from jovik.shelf.archive import FORMAT, READABLE, READABLE_TWINS, TWINS_FORMAT

END_BYTES = 2**16 + 1024
"""Where the end of a zip's list of files is looked for."""


class Archive:
    """A zip from elsewhere, read within bounds and compared with its manifest.

    Parameters
    ----------
    path : Path
    twins : bool
        Whether it may hold twins instead of a shelf.

    Raises
    ------
    UsageError
        It is no such archive, a file of it is missing or was changed, or it is larger than any
        shelf.
    """

    def __init__(self, path: Path, *, twins: bool = False) -> None:
        self.path, self._read = path, 0
        try:
            if _directory_bytes(path) > limits.ARCHIVE_DIRECTORY_BYTES:
                raise self.wrong(f"it holds more than {limits.ARCHIVE_FILES:,} files")
            self._zip = zipfile.ZipFile(path)
            self._bytes = limits.archive_bytes(path.stat().st_size)
        except (OSError, zipfile.BadZipFile, ValueError, NotImplementedError) as error:
            raise self.wrong(f"it is no zip: {error}") from None
        if len(self._zip.infolist()) > limits.ARCHIVE_FILES:
            raise self.wrong(f"it holds more than {limits.ARCHIVE_FILES:,} files")
        about = self.json("manifest.json", checked=False)
        self.format = about.get("format") if isinstance(about, dict) else None
        if self.format == TWINS_FORMAT and not twins:
            raise self.wrong(
                "it holds twins, not a shelf; jovik rank --load RECORDING --shelf FILE reads it"
            )
        if self.format not in (FORMAT, TWINS_FORMAT):
            raise self.wrong("it is no export of a Jovik shelf")
        readable = READABLE if self.format == FORMAT else READABLE_TWINS
        if about.get("version") not in readable:
            raise self.wrong(
                f"its form is version {about.get('version')}, and this Jovik reads up to "
                f"{readable[-1]}: update Jovik"
            )
        sums = about.get("files")
        if not isinstance(sums, dict):
            raise self.wrong("its manifest names no files")
        self.sums: dict[str, Any] = sums

    def wrong(self, why: str) -> UsageError:
        """Return the refusal of this archive."""
        return UsageError(f"{self.path} cannot be read: {why}", "nothing was changed")

    def text(self, name: str, *, checked: bool = True) -> str:
        """Return a file of it, `checked` against the manifest."""
        try:
            with self._zip.open(name) as file:
                content = file.read(limits.ARCHIVE_FILE_BYTES + 1)
        except KeyError:
            raise self.wrong(f"{name} is missing") from None
        except (
            Exception
        ) as error:  # the archive's own, the disk's, and those of each way to compress
            raise self.wrong(f"{name} cannot be unpacked: {error}") from None
        self._read += len(content)
        if len(content) > limits.ARCHIVE_FILE_BYTES or self._read > self._bytes:
            raise self.wrong(f"{name} is larger than any file of a shelf")
        if checked and hashlib.sha256(content).hexdigest() != self.sums.get(name):
            raise self.wrong(f"{name} does not match its manifest")
        try:
            return content.decode()
        except UnicodeDecodeError:
            raise self.wrong(f"{name} is not UTF-8") from None

    def json(self, name: str, *, checked: bool = True) -> Any:
        """Return a JSON file of it."""
        text = self.text(name, checked=checked)
        if limits.json_memory(text) > limits.JSON_MEMORY_BYTES:
            raise self.wrong(f"{name} has more parts than any file of a shelf")
        try:
            return json.loads(text, parse_constant=_refuse)
        except (ValueError, RecursionError) as error:
            # An integer of thousands of digits is no JSONDecodeError.
            raise self.wrong(f"{name} is no JSON: {error}") from None

    def table(self, name: str, header: Sequence[str], most_lines: int) -> str:
        """Return a CSV file of it behind its header, which is checked, as are its lines."""
        text = self.text(name)
        if text.count("\n") + text.count("\r") > most_lines:
            raise self.wrong(f"{name} has more lines than any file of a shelf")
        first, _, rest = text.partition("\n")
        if first.rstrip("\r") != ",".join(header):
            raise self.wrong(f"{name} does not have the columns {', '.join(header)}")
        return rest

    def series(self, name: str, header: Sequence[str]) -> npt.NDArray[np.int64]:
        """Return a CSV file of integers, shape (lines, columns)."""
        lines = self.table(name, header, limits.ARCHIVE_SERIES_LINES)
        if not lines.strip():
            return np.zeros((0, len(header)), np.int64)
        try:
            # As bytes: a text in memory would take four times as much.
            table = io.BytesIO(lines.encode("ascii"))
            del lines
            series = np.loadtxt(table, np.int64, delimiter=",", comments=None, ndmin=2)
        except (ValueError, OverflowError) as error:
            raise self.wrong(f"{name}: {error}") from None
        if series.shape[1] != len(header):
            raise self.wrong(f"{name} does not have the columns {', '.join(header)}")
        return series

    def rows(self, name: str, header: Sequence[str]) -> list[list[str]]:
        """Return the rows of a short CSV file."""
        lines = self.table(name, header, limits.ARCHIVE_HISTOGRAM_LINES)
        try:
            rows = list(csv.reader(io.StringIO(lines)))
        except csv.Error as error:
            raise self.wrong(f"{name}: {error}") from None
        if any(len(r) != len(header) for r in rows):
            raise self.wrong(f"{name} does not have the columns {', '.join(header)}")
        return rows

    def runs(self) -> list[str]:
        """Return names of the files that hold runs."""
        return sorted(n for n in self.sums if n.startswith("runs/"))


def _refuse(word: str) -> float:
    raise ValueError(f"{word} is no number")


def _directory_bytes(path: Path) -> int:
    """Return the size of a zip's list of files (APPNOTE.TXT, 4.3.16, 4.3.14)."""
    with path.open("rb") as file:
        size = file.seek(0, io.SEEK_END)
        file.seek(max(size - END_BYTES, 0))
        tail = file.read()
    at = tail.rfind(b"PK\x05\x06")
    if at < 0 or len(tail) < at + 22:
        return 0  # no zip, which the reader says better
    entries: int = struct.unpack_from("<I", tail, at + 12)[0]
    wide = tail.rfind(b"PK\x06\x06", 0, at)
    if entries == 2**32 - 1 and wide >= 0 and len(tail) >= wide + 56:
        entries = struct.unpack_from("<Q", tail, wide + 40)[0]
    return entries
