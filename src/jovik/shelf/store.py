"""The shelf: opened and closed, with one object for each sort of record."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa

from jovik.base.errors import ShelfError
from jovik.shelf.archive_shelf import twin_files
from jovik.shelf.corrections import Corrections
from jovik.shelf.notes import Notes
from jovik.shelf.postgresql import is_server
from jovik.shelf.recordings import Recordings
from jovik.shelf.refusals import refuse
from jovik.shelf.results import Results
from jovik.shelf.runs import Runs
from jovik.shelf.sheets import Sheets
from jovik.shelf.spool import flush_spool, spool_name
from jovik.shelf.sqlite import WRITE_OPTIONS, open_engine, shown_place
from jovik.steps.replay import LIBRARIES

if TYPE_CHECKING:
    from jovik.shelf.integrity import IntegrityReport
    from jovik.shelf.merge import ImportCounts


log = logging.getLogger(__name__)


class Shelf:
    """An open shelf, as a context manager.

    Parameters
    ----------
    where : str
        A path, or the address of a PostgreSQL database.
    create : bool
        Make it if there is none.
    touching : bool
        Whether opening may change something: bring it to the newest revision, deliver what waits
        for it.

    `where` is its place without a password, `twin_files` the files of an archive of twins by name
    (such a shelf has nothing else), `delivered` how many passes had waited for it on this
    machine (`jovik.shelf.spool`).

    Raises
    ------
    ShelfError
        See `jovik.shelf.sqlite.open_engine`. Every method raises it too when the shelf cannot be
        read or written.
    """

    def __init__(self, where: str, *, create: bool = False, touching: bool = True) -> None:
        self.where = shown_place(where)
        self._engine = open_engine(where, create=create, migrating=touching)
        self._writing = self._engine.execution_options(**WRITE_OPTIONS)
        # A shelf that cannot be read or written is the environment's refusal, wherever that shows.
        sa.event.listen(self._engine, "handle_error", self._refuse)
        self.twin_files = {} if is_server(where) else twin_files(where)
        self.delivered = self._deliver() if touching else 0
        self.sheets = Sheets(self._engine, self._writing)
        self.runs = Runs(self._engine, self._writing, self.where)
        self.results = Results(self._engine)
        self.notes = Notes(self._engine, self._writing)
        self.corrections = Corrections(self._engine, self._writing)
        self.recordings = Recordings(self._engine, self._writing)
        LIBRARIES.append(self.recordings)

    def _deliver(self) -> int:
        """Deliver everything that waits for it. A file that cannot be written can still be read."""
        try:
            return flush_spool(self._writing, spool_name(self.where))
        except ShelfError as error:
            if is_server(self.where):
                raise
            log.warning("passes wait that cannot be delivered now: %s", error.message)
            return 0

    def _refuse(self, context: sa.engine.ExceptionContext) -> None:
        refuse(context, self.where, served=is_server(self.where))

    def __enter__(self) -> Shelf:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """Close every connection."""
        if self.recordings in LIBRARIES:
            LIBRARIES.remove(self.recordings)
        self._engine.dispose()

    # The whole of it

    def export(self, out: Path, name: str | None = None, *, force: bool = False) -> int:
        """Write all of it, or one drive, to a zip (`jovik.shelf.archive.export`).

        How many runs are in it.
        """
        from jovik.shelf.archive import export

        only = self.sheets.get(name).drive.name if name is not None else None
        return export(self._engine, out, only, force=force)

    def merge(self, source: Path, name: str | None = None) -> ImportCounts:
        """Import the records of an export (`jovik.shelf.merge`)."""
        from jovik.shelf.archive_reader import Archive
        from jovik.shelf.merge import merge

        return merge(self._writing, Archive(source), name)

    def check(self) -> IntegrityReport:
        """Return True if it is whole (`jovik.shelf.integrity.check`)."""
        from jovik.shelf.integrity import check

        return check(self._engine)

    def backup(self, out: Path, *, force: bool = False) -> None:
        """Copy it to a file as it is at this moment (`jovik.shelf.backup.backup`)."""
        from jovik.shelf.backup import backup

        backup(self._engine, out, force=force)

    def forget_connections(self) -> None:
        """Leave connections to the process that opened them, and open new ones when needed."""
        self._engine.dispose(close=False)
