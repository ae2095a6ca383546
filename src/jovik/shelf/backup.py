"""Copies of a shelf: as it is while others write, and as it was before a migration."""

from __future__ import annotations

from pathlib import Path

import sqlalchemy as sa

from jovik.base.atomic_files import output_by_path
from jovik.shelf.engines import open_engine
from jovik.shelf.schema import metadata


def backup(engine: sa.Engine, out: Path, *, force: bool = False) -> None:
    """Copy a shelf to a SQLite file as it is at one moment, while others write to it.

    Parameters
    ----------
    force : bool
        Whether a file that is there, a shelf included, may be overwritten.

    Raises
    ------
    UsageError
        There is such a file.
    OutputError
        It cannot be written.
    """
    with output_by_path(out, force=force) as file:
        copy = open_engine(str(file), create=True)
        try:
            # One snapshot: what is written meanwhile belongs to the next backup.
            level = (
                {"isolation_level": "REPEATABLE READ"}
                if engine.dialect.name == "postgresql"
                else {}
            )
            with engine.connect().execution_options(**level) as source, copy.begin() as target:
                for table in metadata.sorted_tables:
                    rows = source.execution_options(yield_per=500).execute(sa.select(table))
                    for some in rows.mappings().partitions():
                        target.execute(table.insert(), [dict(r) for r in some])
        finally:
            copy.dispose()
