"""Reading a shelf by the drivers of its database alone: plain SQL that both databases take.

Loading SQLAlchemy takes longer than most answers.
"""

from __future__ import annotations

import os
import re
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jovik.base.secrets import mask_secrets
from jovik.shelf.place import (
    REVISION,
    cannot_open,
    connect_file,
    connect_server,
    is_server,
    only_read,
    recognise,
)
from jovik.shelf.refusals import shelf_error
from jovik.shelf.stored_json import decode_json

Row = dict[str, Any]
"""The columns of a row by name."""
JSON_TEXT = re.compile(r"(\w+\.\w+) ->> '(\w+)'")
AT_ONCE = 100
"""Rows that are held at once where they are yielded."""

# By the types that the columns were declared with, as SQLAlchemy takes them.
sqlite3.register_converter("JSON", decode_json)
sqlite3.register_converter("BOOLEAN", lambda stored: stored != b"0")


@dataclass(frozen=True)
class Sql:
    """A part of a statement with the values of its question marks, in order."""

    text: str
    values: tuple[Any, ...] = ()

    def __add__(self, other: Sql | str) -> Sql:
        """Return this part with another one behind it."""
        part = Sql(other) if isinstance(other, str) else other
        return Sql(self.text + part.text, self.values + part.values)

    def __radd__(self, other: str) -> Sql:
        return Sql(other) + self


ALWAYS = Sql("TRUE")


def all_of(*conditions: Sql) -> Sql:
    """Return the condition that each of these is met."""
    return Sql(
        " AND ".join(f"({c.text})" for c in conditions),
        tuple(v for c in conditions for v in c.values),
    )


def among(column: str, values: Sequence[Any]) -> Sql:
    """Return the condition that a column has one of these values."""
    if not values:
        return Sql("FALSE")
    return Sql(f"{column} IN ({', '.join('?' * len(values))})", tuple(values))


class Reading:
    """One transaction that reads: all that it returns is of one moment.

    A statement is written for PostgreSQL with question marks. SQLite takes it but for ``->>``, by
    which text that is no JSON gives nothing.
    """

    def __init__(self, connection: Any, served: bool) -> None:
        self._connection, self._served = connection, served

    def _run(self, sql: Sql | str, values: Sequence[Any], cursor: Any = None) -> Any:
        query = Sql(sql) if isinstance(sql, str) else sql
        if self._served:
            text = query.text.replace("?", "%s")
        else:
            text = JSON_TEXT.sub(
                r"CASE WHEN json_valid(\1) THEN json_extract(\1, '$.\2') END", query.text
            )
        return (cursor or self._connection).execute(text, (*query.values, *values))

    def tuples(self, sql: Sql | str, *values: Any) -> list[tuple[Any, ...]]:
        """Return every row as a tuple, in half the time of `rows`."""
        return list(self._run(sql, values).fetchall())

    def column(self, sql: Sql | str, *values: Any) -> list[Any]:
        """Return the first column of every row."""
        return [row[0] for row in self.tuples(sql, *values)]

    def rows(self, sql: Sql | str, *values: Any) -> list[Row]:
        """Return every row by the names of its columns."""
        return list(_named(self._run(sql, values)))

    def first(self, sql: Sql | str, *values: Any) -> Row | None:
        """Return the first row, or None if there is none."""
        return next(iter(self.rows(sql, *values)), None)

    def stream(self, sql: Sql | str) -> Iterator[Row]:
        """Yield every row, few of them held at once."""
        if not self._served:
            yield from _named(self._run(sql, ()))
            return
        with self._connection.cursor(name="rows") as cursor:
            cursor.itersize = AT_ONCE
            yield from _named(self._run(sql, (), cursor))


def _named(cursor: Any) -> Iterator[Row]:
    rows: Iterable[Sequence[Any]] = cursor
    names: list[str] | None = None
    for row in rows:
        # Of a cursor on a server they are known once the first rows are here.
        names = names or [column[0] for column in cursor.description]
        yield dict(zip(names, row, strict=True))


class Reader:
    """Connections to a shelf that is read, opened when they are needed and used again.

    Parameters
    ----------
    where : str
        Its place, without a password.
    connect : callable
        Returns a new connection of the driver.
    served : bool
        Whether it is on a server.
    opened : optional
        A connection that is open already.

    Every method raises `jovik.base.errors.ShelfError` when the shelf cannot be read.
    """

    def __init__(
        self, where: str, connect: Callable[[], Any], *, served: bool, opened: Any = None
    ) -> None:
        self.where, self.served = where, served
        self._connect = connect
        self._idle: list[Any] = [] if opened is None else [opened]
        self._parents: list[Any] = []
        self._process = os.getpid()

    @contextmanager
    def reading(self) -> Iterator[Reading]:
        """Begin a transaction that reads, on a connection of its own."""
        driver = _driver(self.served)
        try:
            connection = self._take()
            try:
                if not self.served:  # psycopg begins by itself
                    connection.execute("BEGIN")
                yield Reading(connection, self.served)
            finally:
                self._give_back(connection)
        except driver.DatabaseError as error:
            refused = isinstance(error, driver.OperationalError)
            raise shelf_error(self.where, error, served=self.served, refused=refused) from error

    def _take(self) -> Any:
        if self._process != os.getpid():
            # They are the parent's, which goes on using them: closing one here would end it there.
            self._parents, self._idle, self._process = self._idle, [], os.getpid()
        while True:
            try:
                connection = self._idle.pop()
            except IndexError:  # another thread may have taken the last one
                return self._connect()
            if not self.served:
                return connection
            with suppress(_driver(True).DatabaseError):  # it may have been lost meanwhile
                connection.execute("SELECT 1")
                return connection

    def _give_back(self, connection: Any) -> None:
        try:
            connection.rollback()
        except _driver(self.served).DatabaseError:
            connection.close()
        else:
            self._idle.append(connection)

    def close(self) -> None:
        """Close every connection."""
        while self._process == os.getpid() and self._idle:
            self._idle.pop().close()

    def forget(self) -> None:
        """Leave open connections to the process that opened them."""
        self._idle = []


def _driver(served: bool) -> Any:
    """Return the module of the driver, whose errors are those of PEP 249."""
    if not served:
        return sqlite3
    import psycopg

    return psycopg


def current_shelf(where: str, shown: str) -> Reader | None:
    """Return a reader of a shelf that is there and of the newest revision.

    None if it has to be made, brought to the newest revision or refused for a reason that
    `jovik.shelf.engines` finds.

    Raises
    ------
    ShelfError, UsageError
        It is no shelf, or cannot be read.
    """
    if is_server(where):
        return _on_server(where, shown)
    path = Path(where)
    if not path.is_file():
        return None
    try:
        nobody_writes = only_read(path)
        recognise(path, nobody_writes)

        def connect() -> sqlite3.Connection:
            connection = connect_file(path, reading=nobody_writes, typed=True)
            connection.execute("PRAGMA query_only=ON")
            return connection

        connection = connect()
        try:
            revision = connection.execute("SELECT version_num FROM alembic_version").fetchone()
        except sqlite3.OperationalError:
            connection.close()
            return None
        except BaseException:
            connection.close()
            raise
    except (sqlite3.DatabaseError, OSError) as error:
        reason = error.strerror if isinstance(error, OSError) else error
        raise cannot_open(where, reason) from None
    if revision != (REVISION,):
        connection.close()
        return None
    return Reader(shown, connect, served=False, opened=connection)


def content_reader(content: bytes, shown: str) -> Reader:
    """Return a reader of a database in memory, given as its file would be."""

    def connect() -> sqlite3.Connection:
        connection = connect_file(None, typed=True)
        connection.deserialize(content)
        return connection

    return Reader(shown, connect, served=False)


def _on_server(where: str, shown: str) -> Reader | None:
    try:
        import psycopg
        from psycopg.types.json import set_json_loads
    except ImportError:
        return None

    def connect() -> psycopg.Connection[Any]:
        connection = connect_server(where)
        set_json_loads(decode_json, connection)
        # One moment for all statements, as SQLite has it.
        connection.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        connection.read_only = True
        return connection

    try:
        reader = Reader(shown, connect, served=True, opened=connect())
    except psycopg.Error as error:
        from jovik.shelf.postgresql import check_address

        check_address(where)
        raise shelf_error(mask_secrets(where), error, served=True, refused=True) from None
    try:
        with reader.reading() as r:
            known = r.column("SELECT to_regclass('alembic_version') IS NOT NULL")[0]
            revision = r.column("SELECT version_num FROM alembic_version") if known else []
    except BaseException:
        reader.close()
        raise
    if revision != [REVISION]:
        reader.close()
        return None
    return reader
