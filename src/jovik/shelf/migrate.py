"""Making the tables of a shelf, and bringing those of an earlier revision to the newest."""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path

import sqlalchemy as sa

from jovik.base.atomic_files import replacing_by_path
from jovik.base.errors import ShelfError
from jovik.base.installation import to_update
from jovik.shelf.place import REVISION
from jovik.shelf.schema import metadata

_version = sa.Table(
    "alembic_version",
    sa.MetaData(),
    sa.Column("version_num", sa.String(32), nullable=False),
    sa.PrimaryKeyConstraint("version_num", name="alembic_version_pkc"),
)
"""Where Alembic keeps the revision, as it makes that table itself."""


def revision_of(connection: sa.Connection) -> str | None:
    """Return the revision of a database, or None if it never was a shelf."""
    if not sa.inspect(connection).has_table("alembic_version"):
        return None
    return connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar()


def make(connection: sa.Connection) -> None:
    """Make the tables of the newest revision in an empty database, in its transaction.

    As all migrations one after the other would, in a tenth of the time; a test holds the two
    against each other.
    """
    metadata.create_all(connection)
    _version.create(connection)
    connection.execute(_version.insert().values(version_num=REVISION))


def migrate(connection: sa.Connection, revision: str = "head") -> None:
    """Migrate a database to a revision (the newest by default) in its transaction.

    Raises
    ------
    ShelfError
        It is of a revision that this Jovik does not know.
    """
    from alembic import command
    from alembic.config import Config
    from alembic.util.exc import CommandError

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    try:
        command.upgrade(config, revision)
    except CommandError:
        raise ShelfError(
            "this shelf was written by a later Jovik, whose revision this one does not know",
            f"update Jovik: {to_update()}",
        ) from None


def back_up_before_migration(path: Path, revision: str) -> None:
    """Keep a copy of a shelf as it was before it is brought to a newer revision.

    A copy is there whole or not at all.
    """
    copy = path.with_name(f"{path.name}.revision-{revision}")
    if copy.exists():
        return
    with (
        replacing_by_path(copy) as file,
        contextlib.closing(sqlite3.connect(path)) as old,
        contextlib.closing(sqlite3.connect(file)) as new,
    ):
        old.backup(new)
