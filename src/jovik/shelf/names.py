"""Names on a shelf, read directly: the Tab key does not wait until a shelf is open."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

from jovik.base.secrets import looks_like_address
from jovik.shelf.place import connect_server

QUERIES = {
    "drive": "SELECT name FROM drive ORDER BY id",
    "run": "SELECT id FROM run ORDER BY id DESC",
    "recording": "SELECT name FROM recording ORDER BY folded_name",
    "rig": "SELECT name FROM rig ORDER BY name",
    "sample": "SELECT DISTINCT name FROM unit ORDER BY name",
    "firmware": "SELECT DISTINCT firmware FROM unit ORDER BY firmware",
}
"""How the names of each sort are read, by any database."""
PATIENCE_S = 2


def names(where: str, sort: str) -> list[str]:
    """Return the names of a sort, without bringing the shelf up to date.

    Parameters
    ----------
    where : str
        The shelf: a path, or the address of a PostgreSQL database.
    sort : str
        A key of `QUERIES`.

    Raises
    ------
    Exception
        The driver's own: the shelf cannot be read.
    """
    query = QUERIES[sort]
    if looks_like_address(where):
        with connect_server(where, connect_timeout=PATIENCE_S) as server:
            return [row[0] for row in server.execute(query.encode()).fetchall()]
    import sqlite3

    place = f"{Path(where).absolute().as_uri()}?mode=ro"
    with closing(sqlite3.connect(place, uri=True, timeout=PATIENCE_S)) as file:
        return [row[0] for row in file.execute(query)]
