"""Where a shelf is: a file of SQLite or a database on a server, and connections of their drivers.

Reading needs neither SQLAlchemy nor Alembic, which are slow to import: creating, upgrading and
writing a shelf do (`jovik.shelf.engines`).
"""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jovik.base.errors import ShelfError
from jovik.base.secrets import looks_like_address, mask_secrets
from jovik.shelf.refusals import hint_for

if TYPE_CHECKING:
    import psycopg

REVISION = "0010"
"""The newest revision under `migrations/versions`."""
APPLICATION_ID = 0x4A6F766B
"""Marks a SQLite file as a Jovik shelf (`PRAGMA application_id`): "Jovk"."""
ZIP = b"PK\x03\x04"
"""How a zip with files in it begins (APPNOTE.TXT, 4.3.7)."""
PATIENCE_S = 30.0
"""How long Jovik waits for a locked shelf, unless the environment sets another time."""
SERVER_LIMITS = {
    "connect_timeout": 5,
    "keepalives_idle": 10,
    "keepalives_interval": 5,
    "keepalives_count": 3,
    "tcp_user_timeout": 20_000,
}
"""Seconds after which a server that is silent counts as lost, and ms for the last.

A pass that is done is not to wait for long.
"""
COPY_IT = "copy it and the files that begin with its name to a writable folder"


def is_server(where: str) -> bool:
    """Return True if a shelf's place is a server's address instead of a path."""
    return "://" in where


def shown_place(where: str) -> str:
    """Return a shelf's place as it may be shown: passwords in an address are masked."""
    return mask_secrets(where) if looks_like_address(where) else where


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


def patience_s() -> float:
    """Return how long a shelf that another program holds is waited for, seconds.

    `JOVIK_SHELF_PATIENCE_S` says it, else 30.
    """
    try:
        return min(max(float(os.environ["JOVIK_SHELF_PATIENCE_S"]), 0.0), 3600.0)
    except (KeyError, ValueError):
        return PATIENCE_S


def cannot_open(where: str, reason: object) -> ShelfError:
    """Return the error to show for a file that cannot be opened as a shelf."""
    return ShelfError(
        f"the shelf {where} cannot be opened: {reason}",
        hint_for(reason) or "name another one with --shelf, or mend its folder",
    )


def only_read(path: Path) -> bool:
    """Return True if a shelf cannot be written here, because of its medium, folder or file.

    Raises
    ------
    ShelfError
        Its newest passes are in a log beside it, which only a writer can bring in.
    """
    if os.access(path, os.W_OK) and os.access(path.absolute().parent, os.W_OK):
        return False
    log = path.with_name(f"{path.name}-wal")
    if log.exists() and log.stat().st_size and not path.with_name(f"{path.name}-shm").exists():
        raise ShelfError(
            f"the shelf {path} was not closed by its last writer, and cannot be written here",
            COPY_IT,
        )
    return True


def recognise(path: Path, reading: bool) -> None:
    """Refuse a file that is not a Jovik shelf, without writing to it."""
    if path.stat().st_size == 0:
        raise ShelfError(
            f"{path} is an empty file, not a shelf", "remove it, or name another place with --shelf"
        )
    try:
        address = _address(path, reading) if reading else f"{path.absolute().as_uri()}?mode=ro"
        with closing(sqlite3.connect(address, uri=True)) as connection:
            marked = connection.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID
    except sqlite3.DatabaseError as error:
        raise ShelfError(
            f"{path} is not a shelf: {error}",
            hint_for(error) or "name another one with --shelf",
        ) from None
    if not marked:
        raise ShelfError(
            f"{path} is a database, but not a Jovik shelf", "name another one with --shelf"
        )


def _address(path: Path, reading: bool) -> str:
    """Return the shelf for SQLite's own eyes.

    One that nobody can write is read without the files that writers keep beside it.
    """
    unchanging = reading and not path.with_name(f"{path.name}-shm").exists()
    mode = "?mode=ro" if reading else ""
    return f"{path.absolute().as_uri()}{mode}{'&immutable=1' if unchanging else ''}"


def connect_file(
    path: Path | None, *, reading: bool = False, typed: bool = False
) -> sqlite3.Connection:
    """Return a connection to a file, or to memory for None.

    Parameters
    ----------
    reading : bool
        Whether nobody can write it here (`only_read`).
    typed : bool
        Whether values are converted by the type that their column was declared with.
    """
    address = _address(path, reading) if path is not None else ":memory:"
    # Python's own module would begin transactions late and leave changes of tables out of them.
    connection: sqlite3.Connection = sqlite3.connect(
        address,
        uri=True,
        timeout=patience_s(),
        check_same_thread=False,
        isolation_level=None,
        detect_types=sqlite3.PARSE_DECLTYPES if typed else 0,
    )
    # Readers go on while a run writes; a finished pass is on the medium when its transaction
    # returns.
    for pragma in ["query_only=ON"] if reading else ["journal_mode=WAL", "synchronous=FULL"]:
        connection.execute(f"PRAGMA {pragma}")
    return connection


def connect_server(where: str, **limits: int) -> psycopg.Connection[Any]:
    """Return a connection to a database on a server, within `SERVER_LIMITS` or others.

    Raises
    ------
    ImportError, psycopg.Error
        The driver is not installed, or the server refuses.
    """
    import psycopg

    # The driver's name in an address is SQLAlchemy's.
    address = where.replace("postgresql+psycopg:", "postgresql:", 1)
    options: dict[str, Any] = SERVER_LIMITS | limits
    return psycopg.connect(address, **options)
