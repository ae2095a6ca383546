"""An archive as a shelf that is only read, without importing it."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import sqlalchemy as sa

from jovik.base import limits
from jovik.shelf.archive import TWINS_FORMAT

ZIP = b"PK\x03\x04"
"""How a zip with files in it begins (APPNOTE.TXT, 4.3.7)."""


def is_archive(path: Path) -> bool:
    """Return True if a file is a zip, which no database begins like, and is named so.

    No file that may be a database is opened: closing it would take the locks of this process's
    other connections from it (POSIX.1, fcntl), and another process would take its log away.
    """
    if path.suffix.casefold() != ".zip":
        return False
    try:
        with path.open("rb") as file:
            return file.read(len(ZIP)) == ZIP
    except OSError:
        return False


def archive_content(path: Path, fresh: sa.Engine) -> bytes:
    """Return the database of a shelf with all that an archive holds.

    Parameters
    ----------
    fresh : Engine
        On an empty shelf in memory.

    Raises
    ------
    UsageError
        It is no archive of a shelf or of twins, or a file of it is damaged.
    """
    from jovik.shelf.archive_reader import Archive
    from jovik.shelf.merge import merge

    archive = Archive(path, twins=True)
    if archive.format != TWINS_FORMAT:
        merge(fresh, archive)
    return serialized(fresh)


def serialized(engine: sa.Engine) -> bytes:
    """Return a database in memory as its file would be, and close it."""
    with engine.connect() as connection:
        raw: sqlite3.Connection = connection.connection.driver_connection  # type: ignore[assignment]
        content = raw.serialize()
    engine.dispose()
    return content


def twin_files(where: str) -> dict[str, str]:
    """Return the files of an archive of twins by name, and none of anything else.

    Raises
    ------
    UsageError
        A file of it is missing or damaged.
    """
    from jovik.shelf.archive_reader import Archive

    path = Path(where)
    if not is_archive(path):
        return {}
    archive = Archive(path, twins=True)
    if archive.format != TWINS_FORMAT:
        return {}
    files = {name: archive.text(name) for name in sorted(archive.sums)[: limits.TWINS + 1]}
    if len(files) > limits.TWINS or any(len(x) > limits.TWIN_LETTERS for x in files.values()):
        raise archive.wrong("it holds more than any archive of twins")
    return files
