"""Bringing a database to a revision of the schema."""

from __future__ import annotations

from pathlib import Path

import sqlalchemy as sa

from jovik.base.errors import ShelfError
from jovik.base.installation import to_update


def revision_of(connection: sa.Connection) -> str | None:
    """The revision that a database is of; None where it never was a shelf."""
    if not sa.inspect(connection).has_table("alembic_version"):
        return None
    return connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar()


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
