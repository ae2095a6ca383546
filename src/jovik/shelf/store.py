"""The shelf: opened and closed, with one object for each sort of record."""

from __future__ import annotations

import logging
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from jovik.base.errors import ShelfError
from jovik.shelf.archive_shelf import archive_content, twin_files
from jovik.shelf.place import is_archive, is_server, shown_place
from jovik.shelf.reader import Reader, content_reader, current_shelf
from jovik.steps.replay import LIBRARIES

if TYPE_CHECKING:
    import sqlalchemy as sa

    from jovik.base.recording import Recording
    from jovik.shelf.additions import Additions
    from jovik.shelf.change_log import ChangeLog
    from jovik.shelf.corrections import Corrections
    from jovik.shelf.integrity import IntegrityReport
    from jovik.shelf.merge import ImportCounts
    from jovik.shelf.notes import Notes
    from jovik.shelf.recordings import Recordings
    from jovik.shelf.results import Results
    from jovik.shelf.runs import Runs
    from jovik.shelf.sheets import Sheets


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

    What is only read is read by the drivers alone (`jovik.shelf.reader`); `additions`,
    `corrections` and what concerns the whole shelf take an engine of SQLAlchemy.

    Raises
    ------
    ShelfError
        See `jovik.shelf.engines.open_engine`. Every method raises it too when the shelf cannot be
        read or written.
    """

    def __init__(self, where: str, *, create: bool = False, touching: bool = True) -> None:
        self.where, self._where = shown_place(where), where
        # All that an archive holds, as the file of a database; empty for any other shelf.
        self._content = b""
        if not is_server(where) and is_archive(Path(where)):
            self._content = archive_content(Path(where))
        self._reader = self._opened(create, touching)
        self.twin_files = {} if is_server(where) else twin_files(where)
        self.delivered = self._deliver() if touching else 0
        LIBRARIES.append(self)

    def _opened(self, create: bool, touching: bool) -> Reader:
        if self._content:
            return content_reader(self._content, self.where)
        reader = current_shelf(self._where, self.where)
        if reader is None:
            from jovik.shelf.engines import open_engine

            open_engine(self._where, create=create, migrating=touching).dispose()
            reader = current_shelf(self._where, self.where)
        if reader is None:
            raise ShelfError(f"the shelf {self.where} disappeared while it was being opened")
        return reader

    @cached_property
    def _engine(self) -> sa.Engine:
        from jovik.shelf.engines import content_engine, open_engine

        if self._content:
            return content_engine(self._content, self._where)
        return open_engine(self._where, create=False, migrating=False)

    @property
    def _writing(self) -> sa.Engine:
        from jovik.shelf.engines import WRITE_OPTIONS

        return self._engine.execution_options(**WRITE_OPTIONS)

    @cached_property
    def sheets(self) -> Sheets:
        """Drives with their claims and samples."""
        from jovik.shelf.sheets import Sheets

        return Sheets(self._reader)

    @cached_property
    def runs(self) -> Runs:
        """Runs with their passes."""
        from jovik.shelf.runs import Runs

        return Runs(self._reader)

    @cached_property
    def results(self) -> Results:
        """Steps with their figures."""
        from jovik.shelf.results import Results

        return Results(self._reader)

    @cached_property
    def notes(self) -> Notes:
        """Notes, readings and instruments' logs."""
        from jovik.shelf.notes import Notes

        return Notes(self._reader)

    @cached_property
    def recordings(self) -> Recordings:
        """Recorded loads."""
        from jovik.shelf.recordings import Recordings

        return Recordings(self._reader)

    def recording(self, name: str) -> tuple[Recording, str] | None:
        """Return the recording of this name for a replay (`Recordings.recording`)."""
        return self.recordings.recording(name)

    @cached_property
    def changes(self) -> ChangeLog:
        """The log of corrections, and excluded runs and steps."""
        from jovik.shelf.change_log import ChangeLog

        return ChangeLog(self._reader)

    @cached_property
    def additions(self) -> Additions:
        """What adds to it."""
        from jovik.shelf.additions import Additions

        return Additions(self._writing, self.where)

    @cached_property
    def corrections(self) -> Corrections:
        """What corrects it."""
        from jovik.shelf.corrections import Corrections

        return Corrections(self._writing)

    def _deliver(self) -> int:
        """Deliver everything that waits for it. A file that cannot be written can still be read."""
        from jovik.shelf.waiting import waiting_files

        if not waiting_files():
            return 0
        from jovik.shelf.spool import flush_spool, spool_name

        try:
            return flush_spool(self._writing, spool_name(self.where))
        except ShelfError as error:
            if is_server(self.where):
                raise
            log.warning("passes wait that cannot be delivered now: %s", error.message)
            return 0

    def __enter__(self) -> Shelf:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """Close every connection."""
        if self in LIBRARIES:
            LIBRARIES.remove(self)
        self._reader.close()
        if "_engine" in self.__dict__:
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
        self._reader.forget()
        if "_engine" in self.__dict__:
            self._engine.dispose(close=False)
