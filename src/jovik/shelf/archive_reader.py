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

from jovik.base.errors import UsageError
from jovik.shelf.archive import FORMAT, READABLE

MOST_FILES = 2_000_000
MOST_FILE_BYTES = 64_000_000
MOST_BYTES = 8_000_000_000
"""Bounds on an archive from elsewhere.

Files, bytes of one file and of all together once they are read.
"""
MOST_PARTS = 4_000_000
"""Commas and brackets of a JSON file, and lines of a CSV file.

A day of slices has 864,000 lines, a run of three days with four sensors some three million commas.
"""
END_BYTES = 2**16 + 1024
MOST_DIRECTORY_BYTES = 200_000_000
"""The list of files at the end of the zip."""


class Archive:
    """A zip from elsewhere, read within bounds and held against its manifest.

    Raises
    ------
    UsageError
        It is no such archive, a file of it is missing or was changed, or it is larger than any
        shelf.
    """

    def __init__(self, path: Path) -> None:
        self.path, self._read = path, 0
        try:
            if _directory_bytes(path) > MOST_DIRECTORY_BYTES:
                raise self.wrong(f"it holds more than {MOST_FILES:,} files")
            self._zip = zipfile.ZipFile(path)
        except (OSError, zipfile.BadZipFile, ValueError, NotImplementedError) as error:
            raise self.wrong(f"it is no zip: {error}") from None
        if len(self._zip.infolist()) > MOST_FILES:
            raise self.wrong(f"it holds more than {MOST_FILES:,} files")
        about = self.json("manifest.json", checked=False)
        if not isinstance(about, dict) or about.get("format") != FORMAT:
            raise self.wrong("it is no export of a Jovik shelf")
        if about.get("version") not in READABLE:
            raise self.wrong(
                f"its form is version {about.get('version')}, and this Jovik reads up to "
                f"{READABLE[-1]}: update Jovik"
            )
        sums = about.get("files")
        if not isinstance(sums, dict):
            raise self.wrong("its manifest names no files")
        self.sums: dict[str, Any] = sums

    def wrong(self, why: str) -> UsageError:
        """The refusal of this archive."""
        return UsageError(f"{self.path} cannot be imported: {why}", "nothing was changed")

    def text(self, name: str, *, checked: bool = True) -> str:
        """A file of it; `checked` against the manifest."""
        try:
            with self._zip.open(name) as file:
                content = file.read(MOST_FILE_BYTES + 1)
        except KeyError:
            raise self.wrong(f"{name} is missing") from None
        except (
            Exception
        ) as error:  # the archive's own, the disk's, and those of each way to compress
            raise self.wrong(f"{name} cannot be unpacked: {error}") from None
        self._read += len(content)
        if len(content) > MOST_FILE_BYTES or self._read > MOST_BYTES:
            raise self.wrong(f"{name} is larger than any file of a shelf")
        if checked and hashlib.sha256(content).hexdigest() != self.sums.get(name):
            raise self.wrong(f"{name} is not what its manifest says")
        try:
            return content.decode()
        except UnicodeDecodeError:
            raise self.wrong(f"{name} is not UTF-8") from None

    def json(self, name: str, *, checked: bool = True) -> Any:
        """A JSON file of it."""
        text = self.text(name, checked=checked)
        if sum(map(text.count, "[{,")) > MOST_PARTS:
            raise self.wrong(f"{name} has more parts than any file of a shelf")
        try:
            return json.loads(text, parse_constant=_refuse)
        except (ValueError, RecursionError) as error:
            # An integer of thousands of digits is no JSONDecodeError.
            raise self.wrong(f"{name} is no JSON: {error}") from None

    def table(self, name: str, header: Sequence[str]) -> list[list[str]]:
        """The rows of a CSV file of it."""
        text = self.text(name)
        if text.count("\n") + text.count("\r") > MOST_PARTS:
            raise self.wrong(f"{name} has more lines than any file of a shelf")
        try:
            rows = list(csv.reader(io.StringIO(text)))
        except csv.Error as error:
            raise self.wrong(f"{name}: {error}") from None
        if not rows or tuple(rows[0]) != tuple(header) or any(len(r) != len(header) for r in rows):
            raise self.wrong(f"{name} does not have the columns {', '.join(header)}")
        return rows[1:]

    def runs(self) -> list[str]:
        """Names of the files that hold runs."""
        return sorted(n for n in self.sums if n.startswith("runs/"))


def _refuse(word: str) -> float:
    raise ValueError(f"{word} is no number")


def _directory_bytes(path: Path) -> int:
    """What the end of a zip says of the size of its list of files (APPNOTE.TXT, 4.3.16, 4.3.14)."""
    with path.open("rb") as file:
        size = file.seek(0, io.SEEK_END)
        file.seek(max(size - END_BYTES, 0))
        tail = file.read()
    at = tail.rfind(b"PK\x05\x06")
    if at < 0 or len(tail) < at + 22:
        return 0  # no zip, which the reader says better
    found: int = struct.unpack_from("<I", tail, at + 12)[0]
    wide = tail.rfind(b"PK\x06\x06", 0, at)
    if found == 2**32 - 1 and wide >= 0 and len(tail) >= wide + 56:
        found = struct.unpack_from("<Q", tail, wide + 40)[0]
    return found
