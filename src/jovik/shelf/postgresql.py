"""A shelf on a PostgreSQL server, shared by several rigs.

Reaching it, whether it is one, and bringing it to the newest revision.
"""

from __future__ import annotations

import threading
from collections.abc import Callable

import sqlalchemy as sa

from jovik.base.errors import ShelfError, ShelfUnreachableError
from jovik.base.installation import to_add
from jovik.base.secrets import mask_secrets
from jovik.shelf.migrate import make, migrate, revision_of
from jovik.shelf.place import REVISION, SERVER_LIMITS
from jovik.shelf.refusals import shelf_error
from jovik.shelf.schema import metadata

LOCK = 0x4A6F766B
"""The advisory lock that migrations of one shelf take turns by: "Jovk"."""
SILENT_S = 20.0
"""Time that a reachable server may take to answer a write."""


def with_timeout(work: Callable[[], None]) -> None:
    """Do work on a server, and wait for it no longer than `SILENT_S`.

    A stopped server keeps its connections and answers nothing.

    What was asked may still be done when the server goes on; entries may be made twice.

    Raises
    ------
    ShelfUnreachableError
        It was silent. Whatever `work` raises is raised here too.
    """
    failed: list[BaseException] = []

    def run() -> None:
        try:
            work()
        except BaseException as error:
            failed.append(error)

    # Left behind where the server stays silent: it ends with the process.
    asking = threading.Thread(target=run, daemon=True)
    asking.start()
    asking.join(SILENT_S)
    if asking.is_alive():
        raise ShelfUnreachableError(
            f"the shelf's server has not answered for {SILENT_S:g} s",
            "is it stopped, or its disk full?",
        )
    if failed:
        raise failed[0]


def open_server(where: str, *, create: bool, migrating: bool = True) -> sa.Engine:
    """Return a database engine on a shelf of the newest revision.

    Parameters
    ----------
    where : str
        ``postgresql://...`` or ``postgresql+psycopg://...``.
    create : bool
        Make the shelf in an empty database.
    migrating : bool
        Bring one of an earlier revision to the newest; it is refused otherwise.

    Raises
    ------
    ShelfError
        The server cannot be reached, its driver is not installed, or the database is no shelf or
        one of a later revision.
    """
    url = _url(where)
    try:
        engine = sa.create_engine(
            url,
            pool_pre_ping=True,
            connect_args=SERVER_LIMITS,
        )
    except ImportError:
        raise ShelfError(
            "a shelf on a server needs psycopg, which is not installed",
            to_add("postgres"),
        ) from None
    try:
        _bring_up(engine, create, migrating)
    except sa.exc.DatabaseError as error:
        engine.dispose()
        original = error.orig if error.orig is not None else error
        shown = mask_secrets(where)
        raise shelf_error(shown, original, served=True, refused=True) from None
    except BaseException:
        engine.dispose()
        raise
    return engine


def check_address(where: str) -> None:
    """Raise ShelfError unless this is the address of a database on a server."""
    _url(where)


def _url(where: str) -> sa.URL:
    try:
        url = sa.make_url(where)
    except (sa.exc.ArgumentError, ValueError):  # a port that is no number is the latter
        raise ShelfError(
            f"'{mask_secrets(where)}' is no address of a shelf",
            "write postgresql+psycopg://user@host/database",
        ) from None
    if "@" in (url.host or ""):
        raise ShelfError(
            f"'{mask_secrets(where)}' is no address of a shelf",
            "in a password, write %40 for @ and %2F for /",
        )
    if url.get_backend_name() != "postgresql":
        raise ShelfError(
            f"Jovik cannot use a shelf on '{url.drivername}'",
            "a path, or postgresql+psycopg://user@host/database",
        ) from None
    return url.set(drivername="postgresql+psycopg")


def _bring_up(engine: sa.Engine, create: bool, migrating: bool) -> None:
    with engine.connect() as c:
        revision = revision_of(c)
        if revision == REVISION:
            return
        tables = sa.inspect(c).get_table_names()
        # Somebody may have made the shelf between these two looks: whose tables are there has a
        # revision, since both come at once.
        revision = revision_of(c)
        if revision == REVISION:
            return
    if revision is None and tables:
        raise ShelfError(
            f"{engine.url.database} is a database, but not a Jovik shelf",
            "name an empty one with --shelf",
        )
    if revision is not None and not migrating:
        raise ShelfError(f"the shelf in {engine.url.database} is of another revision")
    if revision is None and not create:
        raise ShelfError(
            f"there is no shelf in {engine.url.database} yet", "jovik sheet new NAME makes one"
        )
    with engine.begin() as c:
        # Of several that come at once one migrates; the others find it done.
        c.execute(sa.text("select pg_advisory_xact_lock(:lock)"), {"lock": LOCK})
        revision = revision_of(c)
        if revision == REVISION:
            return
        if revision is None:
            make(c)
        else:
            _back_up(c, revision)
            migrate(c)


def _back_up(c: sa.Connection, revision: str) -> None:
    """Back the tables up into a schema of the same database before a migration."""
    schema = f"jovik_revision_{revision}"
    if (
        c.execute(
            sa.text("select 1 from information_schema.schemata where schema_name = :s"),
            {"s": schema},
        ).first()
        is not None
    ):
        return
    known = set(sa.inspect(c).get_table_names()) & {*metadata.tables, "alembic_version"}
    c.execute(sa.schema.CreateSchema(schema))
    for name in sorted(known):
        c.exec_driver_sql(f'create table "{schema}"."{name}" as table "{name}"')
