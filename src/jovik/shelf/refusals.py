"""The errors of a shelf's database, each with its own hint: lock, full disk, privilege, connection.

SQLite names the reason by a result code, PostgreSQL by an SQLSTATE (PostgreSQL 16, appendix A).
Neither the statement nor its parameters are ever part of a message.
"""

from __future__ import annotations

import re
import sqlite3
from typing import TYPE_CHECKING

from jovik.base.errors import ShelfError, ShelfUnreachableError
from jovik.base.secrets import mask_secrets

if TYPE_CHECKING:
    import sqlalchemy as sa

DAMAGED_HINT = "it is damaged: restore a backup of it (jovik shelf backup makes one)"
BY_CODE = {
    sqlite3.SQLITE_CORRUPT: DAMAGED_HINT,
    sqlite3.SQLITE_NOTADB: DAMAGED_HINT,
    sqlite3.SQLITE_FULL: "its disk is full: free some space there",
    sqlite3.SQLITE_PERM: "you may not write this file: check its permissions",
    sqlite3.SQLITE_READONLY: "name another one with --shelf; reading this one works",
    sqlite3.SQLITE_IOERR: "its disk failed or was detached: see the kernel log",
    sqlite3.SQLITE_CANTOPEN: "the file or its folder is missing, or you may not open it",
}
"""Advice for SQLite's primary result codes."""
BY_STATE = {
    "42501": "your database role lacks a privilege: ask the owner for a GRANT (see docs/lab.md)",
    "25006": "the database only accepts reads now: it may be a standby",
    "53100": "the disk of the server is full: ask its administrator to free some space",
    "53200": "the server is out of memory: ask its administrator",
    "53300": "the server has no connection left: close other programs, or raise its limit",
    "28P01": "the password is wrong: check it in the address or in ~/.pgpass",
    "28000": "there is no such role, or it has no access: ask the administrator of the server",
    "3D000": "there is no such database on this server: createdb makes one",
    "42P01": "a table is missing: run any jovik command as the owner to complete the shelf",
}
"""Advice for PostgreSQL's SQLSTATEs."""
CONNECTION_STATES = {
    "password authentication failed": "28P01",
    r'role ".*" does not exist': "28000",
    r'database ".*" does not exist': "3D000",
}
"""Answers of a server before a connection is up, and the SQLSTATE that each means."""
LOCKED_STATES = frozenset(("55P03", "40P01", "40001"))
"""SQLSTATE of a lock that another transaction holds."""


def sqlite_code(error: object) -> int | None:
    """Return SQLite's primary result code of an error, or None for any other error."""
    code = getattr(error, "sqlite_errorcode", None)
    return code & 0xFF if isinstance(code, int) else None


def hint_for(error: object) -> str:
    """Return advice on an error of either database, or an empty string."""
    state = getattr(error, "sqlstate", None)
    if isinstance(state, str):
        return BY_STATE.get(state, "")
    text = str(error)
    # Before a connection is up, psycopg reports no SQLSTATE.
    for words, code in CONNECTION_STATES.items():
        if re.search(words, text):
            return BY_STATE[code]
    return BY_CODE.get(sqlite_code(error) or -1, "")


def shelf_error(where: str, error: BaseException, *, served: bool, refused: bool) -> ShelfError:
    """Return the error to show for one of a database.

    Parameters
    ----------
    where : str
        The shelf's place, without a password.
    served : bool
        True if the shelf is on a server.
    refused : bool
        True if the database called the error operational: not the fault of a statement.
    """
    reason = mask_secrets((str(error).strip().splitlines() or [type(error).__name__])[0])
    code, state = sqlite_code(error), getattr(error, "sqlstate", None)
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED) or state in LOCKED_STATES:
        return ShelfUnreachableError(
            f"the shelf {where} is locked by another program: {reason}",
            "wait until it has ended, or stop it",
        )
    if code == sqlite3.SQLITE_READONLY:
        return ShelfError(f"the shelf {where} cannot be written here", hint_for(error))
    if served and refused:
        return ShelfUnreachableError(
            f"the shelf {where} cannot be reached: {reason}",
            hint_for(error) or "is its server running?",
        )
    return ShelfError(
        f"the shelf {where} failed: {reason}", hint_for(error) or "run: jovik shelf check"
    )


def refuse(context: sa.engine.ExceptionContext, where: str, *, served: bool) -> None:
    """Raise the error to show for one that SQLAlchemy caught. Let a broken constraint pass."""
    from sqlalchemy import exc

    caught = context.sqlalchemy_exception
    if isinstance(caught, exc.DatabaseError) and not isinstance(caught, exc.IntegrityError):
        refused = isinstance(caught, exc.OperationalError)
        original = context.original_exception
        raise shelf_error(where, original, served=served, refused=refused) from original
