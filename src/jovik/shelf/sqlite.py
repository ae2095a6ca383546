"""Opening a shelf: finding it, recognising it, and updating it to the newest revision."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from jovik.base.atomic_files import create_atomically
from jovik.base.errors import ShelfError
from jovik.base.secrets import looks_like_address, mask_secrets
from jovik.shelf.archive_shelf import archive_content, is_archive, serialized
from jovik.shelf.migrate import back_up_before_migration, make, migrate, revision_of
from jovik.shelf.postgresql import is_server, open_server
from jovik.shelf.records import decode_json
from jovik.shelf.refusals import hint_for
from jovik.shelf.schema import REVISION

APPLICATION_ID = 0x4A6F766B
"""Marks a SQLite file as a Jovik shelf (`PRAGMA application_id`): "Jovk"."""


def shown_place(where: str) -> str:
    """Return a shelf's place as it may be shown: passwords in an address are masked."""
    return mask_secrets(where) if looks_like_address(where) else where


def open_engine(where: str, *, create: bool, migrating: bool = True) -> sa.Engine:
    """Return a database engine on a shelf of the newest revision.

    Parameters
    ----------
    where : str
        A path, or the address of a PostgreSQL database.
    create : bool
        Make the shelf if there is none.
    migrating : bool
        Bring one of an earlier revision to the newest; it is refused otherwise.

    Raises
    ------
    ShelfError
        It is not there, is no shelf, is of a later revision, or cannot be read or written.
    """
    if is_server(where):
        return open_server(where, create=create, migrating=migrating)
    if looks_like_address(where) and not os.path.exists(where):
        raise ShelfError(
            f"'{shown_place(where)}' is no address of a shelf",
            "write postgresql://user@host/database, with two slashes",
        )
    path = Path(where)
    fresh = not path.exists()
    if fresh and not create:
        raise ShelfError(
            f"there is no shelf at {where}",
            "jovik sheet new NAME makes one; --shelf names another place",
        )
    if path.is_dir():
        raise ShelfError(
            f"{where} is a folder, not a shelf", f"name a file in it: --shelf {path / 'shelf.db'}"
        )
    try:
        if fresh:
            _make(path)
        elif is_archive(path):
            empty = _fresh().execution_options(**WRITE_OPTIONS)
            return _connect(None, content=archive_content(path, empty), reading=True)
        reading = _only_read(path)
        _recognise(path, reading)
        engine = _connect(path, reading=reading)
        with engine.connect() as connection:
            revision = revision_of(connection)
        if revision is None:
            raise ShelfError(
                f"{where} is a shelf without a revision; it may be damaged",
                "name another one with --shelf",
            )
        if revision != REVISION and (reading or not migrating):
            raise ShelfError(f"{where} is of another revision and cannot be written here", COPY_IT)
        if revision != REVISION:
            back_up_before_migration(path, revision)
            _migrate(path)
        return engine
    except (sa.exc.DatabaseError, OSError) as error:
        reason = error.orig if isinstance(error, sa.exc.DatabaseError) else error.strerror
        raise ShelfError(
            f"the shelf {where} cannot be opened: {reason}",
            hint_for(reason) or "name another one with --shelf, or mend its folder",
        ) from None


PATIENCE_S = 30.0
"""How long Jovik waits for a locked shelf, unless the environment sets another time."""


def patience_s() -> float:
    """Return how long a shelf that another program holds is waited for, seconds.

    `JOVIK_SHELF_PATIENCE_S` says it, else 30.
    """
    try:
        return min(max(float(os.environ["JOVIK_SHELF_PATIENCE_S"]), 0.0), 3600.0)
    except (KeyError, ValueError):
        return PATIENCE_S


WRITE_OPTIONS = {"jovik_writing": True}
"""Execution options of an engine whose transactions write."""


COPY_IT = "copy it and the files that begin with its name to a writable folder"


def _only_read(path: Path) -> bool:
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


def _address(path: Path, reading: bool) -> str:
    """Return the shelf for SQLite's own eyes.

    One that nobody can write is read without the files that writers keep beside it.
    """
    unchanging = reading and not path.with_name(f"{path.name}-shm").exists()
    mode = "?mode=ro" if reading else ""
    return f"{path.absolute().as_uri()}{mode}{'&immutable=1' if unchanging else ''}"


def _connect(
    path: Path | None,
    *,
    foreign_keys: bool = True,
    reading: bool = False,
    content: bytes = b"",
) -> sa.Engine:
    """Return an engine on a file, or on memory for None: empty, or with the content of a file."""
    if path is None and not content:
        engine = sa.create_engine(
            "sqlite://", poolclass=sa.pool.StaticPool, json_deserializer=decode_json
        )
    else:
        address = _address(path, reading) if path is not None else ":memory:"

        def connect() -> sqlite3.Connection:
            connection = sqlite3.connect(
                address, uri=True, timeout=patience_s(), check_same_thread=False
            )
            if content:
                connection.deserialize(content)
            return connection

        engine = sa.create_engine(
            "sqlite://",
            creator=connect,
            poolclass=sa.pool.QueuePool,
            json_deserializer=decode_json,
        )

    def prepare(connection: Any, _: Any) -> None:
        # Python's own module would begin transactions late and leave changes of tables out of them.
        connection.isolation_level = None
        cursor = connection.cursor()
        # Readers go on while a run writes; a finished pass is on the medium when its transaction
        # returns.
        for pragma in (
            *(["query_only=ON"] if reading else ["journal_mode=WAL", "synchronous=FULL"]),
            f"foreign_keys={'ON' if foreign_keys else 'OFF'}",
        ):
            cursor.execute(f"PRAGMA {pragma}")
        cursor.close()

    def begin(connection: sa.Connection) -> None:
        # A transaction that will write takes its turn at once; one that had read first could be
        # refused later.
        writes = connection.get_execution_options().get("jovik_writing")
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    sa.event.listen(engine, "connect", prepare)
    sa.event.listen(engine, "begin", begin)
    return engine


def _make(path: Path) -> None:
    """Make a shelf whole.

    Nobody ever meets half of one, and who is killed meanwhile leaves nothing.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    create_atomically(path, serialized(_fresh()))


def _fresh() -> sa.Engine:
    """Return an engine on an empty shelf in memory."""
    engine = _connect(None)
    with engine.execution_options(**WRITE_OPTIONS).begin() as connection:
        connection.execute(sa.text(f"PRAGMA application_id={APPLICATION_ID}"))
        make(connection)
    return engine


def _recognise(path: Path, reading: bool) -> None:
    """Refuse a file that is not a Jovik shelf, without writing to it."""
    if path.stat().st_size == 0:
        raise ShelfError(
            f"{path} is an empty file, not a shelf", "remove it, or name another place with --shelf"
        )
    try:
        with sqlite3.connect(
            _address(path, reading) if reading else f"{path.absolute().as_uri()}?mode=ro", uri=True
        ) as connection:
            marked = connection.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID
        connection.close()
    except sqlite3.DatabaseError as error:
        raise ShelfError(
            f"{path} is not a shelf: {error}",
            hint_for(error) or "name another one with --shelf",
        ) from None
    if not marked:
        raise ShelfError(
            f"{path} is a database, but not a Jovik shelf", "name another one with --shelf"
        )


def _migrate(path: Path, revision: str = "head") -> None:
    """Update a shelf to a revision, by default the newest."""
    engine = _connect(path, foreign_keys=False)
    try:
        _bring_up(engine, revision)
    finally:
        engine.dispose()


def _bring_up(engine: sa.Engine, revision: str = "head") -> None:
    """SQLite changes a table by making it anew.

    Rows that refer to it must not object meanwhile, and are looked at afterwards.
    """
    with engine.execution_options(**WRITE_OPTIONS).begin() as connection:
        connection.execute(sa.text(f"PRAGMA application_id={APPLICATION_ID}"))
        migrate(connection, revision)
        broken = connection.execute(sa.text("PRAGMA foreign_key_check")).first()
        if broken is not None:
            raise ShelfError(
                f"this shelf refers to records that it does not hold ({broken[0]})",
                "a copy from before is beside it",
            )
