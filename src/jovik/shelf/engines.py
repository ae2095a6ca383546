"""Engines of SQLAlchemy: to make a shelf, bring it to the newest revision, and write to it."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import sqlalchemy as sa

from jovik.base.atomic_files import create_atomically
from jovik.base.errors import ShelfError
from jovik.base.secrets import looks_like_address
from jovik.shelf.migrate import back_up_before_migration, make, migrate, revision_of
from jovik.shelf.place import (
    APPLICATION_ID,
    COPY_IT,
    REVISION,
    cannot_open,
    connect_file,
    is_server,
    only_read,
    recognise,
    shown_place,
)
from jovik.shelf.postgresql import open_server
from jovik.shelf.refusals import refuse
from jovik.shelf.stored_json import decode_json


def open_engine(where: str, *, create: bool, migrating: bool = True) -> sa.Engine:
    """Return a database engine on a shelf of the newest revision.

    Its errors are Jovik's (`jovik.shelf.refusals.refuse`).

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
        return _refusing(open_server(where, create=create, migrating=migrating), where)
    return _refusing(_open_file(where, create=create, migrating=migrating), where)


def content_engine(content: bytes, where: str) -> sa.Engine:
    """Return an engine on a database in memory that is only read, given as its file would be."""
    return _refusing(_connect(None, content=content), where)


def _refusing(engine: sa.Engine, where: str) -> sa.Engine:
    """Make whatever a database refuses, wherever it shows, an error of the environment."""
    shown, served = shown_place(where), is_server(where)

    def mended(context: sa.engine.ExceptionContext) -> None:
        refuse(context, shown, served=served)

    sa.event.listen(engine, "handle_error", mended)
    return engine


def _open_file(where: str, *, create: bool, migrating: bool) -> sa.Engine:
    if looks_like_address(where) and not Path(where).exists():
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
        reading = only_read(path)
        recognise(path, reading)
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
        raise cannot_open(where, reason) from None


WRITE_OPTIONS = {"jovik_writing": True}
"""Execution options of an engine whose transactions write."""


def fresh_engine() -> sa.Engine:
    """Return an engine on an empty shelf in memory, whose transactions write."""
    engine = _connect(None)
    with engine.execution_options(**WRITE_OPTIONS).begin() as connection:
        connection.execute(sa.text(f"PRAGMA application_id={APPLICATION_ID}"))
        make(connection)
    return engine.execution_options(**WRITE_OPTIONS)


def serialized(engine: sa.Engine) -> bytes:
    """Return a database in memory as its file would be, and close it."""
    with engine.connect() as connection:
        raw: sqlite3.Connection = connection.connection.driver_connection  # type: ignore[assignment]
        content = raw.serialize()
    engine.dispose()
    return content


def _connect(
    path: Path | None,
    *,
    foreign_keys: bool = True,
    reading: bool = False,
    content: bytes = b"",
) -> sa.Engine:
    """Return an engine on a file, or on memory for None: empty, or with the content of a file."""

    def connect() -> sqlite3.Connection:
        connection = connect_file(path, reading=reading)
        if content:
            connection.deserialize(content)
            connection.execute("PRAGMA query_only=ON")
        connection.execute(f"PRAGMA foreign_keys={'ON' if foreign_keys else 'OFF'}")
        return connection

    def begin(connection: sa.Connection) -> None:
        # A transaction that will write takes its turn at once; one that had read first could be
        # refused later.
        writes = connection.get_execution_options().get("jovik_writing")
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    empty = path is None and not content
    engine = sa.create_engine(
        "sqlite://",
        creator=connect,
        poolclass=sa.pool.StaticPool if empty else sa.pool.QueuePool,
        json_deserializer=decode_json,
    )
    sa.event.listen(engine, "begin", begin)
    return engine


def _make(path: Path) -> None:
    """Make a shelf whole.

    Nobody ever meets half of one, and who is killed meanwhile leaves nothing.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    create_atomically(path, serialized(fresh_engine()))


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
