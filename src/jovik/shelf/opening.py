"""Opening a shelf: where it is, whether it is one, and bringing it to the newest revision."""

from __future__ import annotations

import os
import sqlite3
import tempfile
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from jovik.errors import ShelfRefused
from jovik.shelf.schema import REVISION

APPLICATION_ID = 0x4A6F766B
"""Marks a SQLite file as a Jovik shelf (`PRAGMA application_id`): "Jovk"."""


def default_path() -> Path:
    """Where the shelf is unless the person says otherwise."""
    from platformdirs import user_data_path

    return user_data_path("jovik") / "shelf.db"


def where_from(option: str | None) -> str:
    """The shelf's place: the option, else `JOVIK_SHELF`, else the platform's data folder."""
    return option or os.environ.get("JOVIK_SHELF") or str(default_path())


def open_engine(where: str, *, create: bool) -> sa.Engine:
    """A database engine on a shelf of the newest revision.

    Parameters
    ----------
    where : str
        A path.
    create : bool
        Make the shelf where there is none.

    Raises
    ------
    ShelfRefused
        It is not there, is no shelf, is of a later revision, or cannot be read or written.
    """
    path = Path(where)
    fresh = not path.exists()
    if fresh and not create:
        raise ShelfRefused(f"there is no shelf at {where}", "jovik sheet new NAME makes one; --shelf names another place")
    if path.is_dir():
        raise ShelfRefused(f"{where} is a folder, not a shelf", f"name a file in it: --shelf {path / 'shelf.db'}")
    try:
        if fresh:
            _make(path)
        _recognise(path)
        engine = _connect(path)
        with engine.connect() as connection:
            found = _revision(connection)
        if found is None:
            raise ShelfRefused(f"{where} is a shelf without a revision; it may be damaged", "name another one with --shelf")
        if found != REVISION:
            _migrate(engine)
        return engine
    except (sa.exc.DatabaseError, OSError) as error:
        reason = error.orig if isinstance(error, sa.exc.DatabaseError) else error.strerror
        raise ShelfRefused(f"the shelf {where} cannot be opened: {reason}", "name another one with --shelf, or mend its folder") from None


def _connect(path: Path) -> sa.Engine:
    engine = sa.create_engine(sa.URL.create("sqlite", database=str(path)), connect_args={"timeout": 30})
    sa.event.listen(engine, "connect", _prepare_connection)
    return engine


def _make(path: Path) -> None:
    """Make a shelf under another name and move it into place whole: nobody ever meets half of one."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".jovik-shelf-") as scratch:
        made = Path(scratch) / "shelf.db"
        engine = _connect(made)
        _migrate(engine)
        engine.dispose()
        # Another process may have been quicker; then its shelf stands, since this one is still empty.
        try:
            os.link(made, path)
        except FileExistsError:
            pass
        except OSError:
            # Some file systems know no second name for a file.
            if not path.exists():
                made.replace(path)


def _recognise(path: Path) -> None:
    """Refuse a file that is not a Jovik shelf, without writing to it."""
    if path.stat().st_size == 0:
        raise ShelfRefused(f"{path} is an empty file, not a shelf", "remove it, or name another place with --shelf")
    try:
        with sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True) as connection:
            marked = connection.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID
        connection.close()
    except sqlite3.DatabaseError as error:
        raise ShelfRefused(f"{path} is not a shelf: {error}", "name another one with --shelf") from None
    if not marked:
        raise ShelfRefused(f"{path} is a database, but not a Jovik shelf", "name another one with --shelf")


def _prepare_connection(connection: Any, _: Any) -> None:
    cursor = connection.cursor()
    # Readers go on while a run writes; a finished pass is on the medium when its transaction returns.
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _revision(connection: sa.Connection) -> str | None:
    if not sa.inspect(connection).has_table("alembic_version"):
        return None
    return connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar()


def _migrate(engine: sa.Engine) -> None:
    from alembic import command
    from alembic.config import Config
    from alembic.util.exc import CommandError

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    try:
        with engine.begin() as connection:
            connection.execute(sa.text(f"PRAGMA application_id={APPLICATION_ID}"))
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
    except CommandError:
        raise ShelfRefused(
            "this shelf was written by a later Jovik, whose revision this one does not know", "update Jovik: pip install --upgrade jovik"
        ) from None
