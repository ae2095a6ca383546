"""Entries that wait.

What a run wrote while its shelf could not be written (a server that is away, a file that another
process has locked), in a file of this machine until it can.

A line is an entry, and is on the medium before the run goes on; the first line says which shelf and
run. A file is delivered in one transaction and removed; were the removal to fail, delivering it
again would change nothing.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO

import sqlalchemy as sa

from jovik.base.by_name import WITHOUT_DESCRIPTORS
from jovik.base.errors import ShelfError
from jovik.base.file_lock import lock
from jovik.base.own_files import make_own_folder, open_own
from jovik.shelf.journal import JournalEntry, make
from jovik.shelf.place import is_server
from jovik.shelf.waiting import spool_folder, waiting_files


class Spool:
    """The waiting entries of one run, held by the process that runs it.

    Raises
    ------
    ShelfError
        Here and in `add`: the file cannot be written.
    """

    def __init__(self, where: str, key: str) -> None:
        self.path = spool_folder() / f"{key}.jsonl"
        self.passes = 0
        try:
            make_own_folder(self.path.parent)
            fd = open_own(self.path, os.O_WRONLY | os.O_APPEND | os.O_CREAT)
            self._file = os.fdopen(fd, "a", encoding="utf-8")
            # Whoever delivers leaves a file alone that is still written to.
            lock(self._file)
        except OSError as error:
            raise self._refusal(error) from None
        if self.path.stat().st_size == 0:
            self._write(json.dumps({"shelf": where, "run": key}))

    def add(self, entry: JournalEntry) -> None:
        """Store an entry. It is on the medium when this returns."""
        self._write(entry.as_line())
        self.passes += entry.sort == "pass"

    def _write(self, line: str) -> None:
        try:
            self._file.write(line + "\n")
            self._file.flush()
            os.fsync(self._file.fileno())
        except OSError as error:
            raise self._refusal(error) from None

    def _refusal(self, error: OSError) -> ShelfError:
        return ShelfError(
            f"the shelf cannot be written, nor can {self.path}: {error.strerror}",
            "the latest pass is lost, earlier ones are safe; free some space and resume the run",
        )

    def close(self) -> None:
        """Let others deliver it."""
        self._file.close()


def spool_name(where: str) -> str:
    """Return how a spool file names its shelf: an address without a password, or a whole path."""
    return where if is_server(where) else os.path.realpath(where)


def flush_spool(engine: sa.Engine, where: str) -> int:
    """Deliver everything that waits for a shelf, a transaction per file, and count the passes.

    Parameters
    ----------
    where : str
        The shelf, as `Spool` was given it (`spool_name`).

    Raises
    ------
    ShelfError
        A file holds what is no entry.
    """
    count = 0
    for path in waiting_files():
        with _alone(path) as file:
            if file is None:
                continue
            head, *lines = file.read().split("\n")
            if not lines:
                # Its writer was cut off before even the first line was whole: nothing had finished
                # that could wait in it.
                _remove(path, file)
                continue
            try:
                about = json.loads(head)
                if about["shelf"] != where:
                    continue
                # What follows the last line's end was cut off with its writer, whose pass had not
                # finished then.
                entries = [JournalEntry.from_line(line) for line in lines[:-1]]
                try:
                    _make_all(engine, about["run"], entries)
                except sa.exc.IntegrityError:
                    # What was asked of a server that stood still may be done at this very moment;
                    # the second time it is seen.
                    _make_all(engine, about["run"], entries)
            except (
                ValueError,
                KeyError,
                TypeError,
                AttributeError,
                OverflowError,
                RecursionError,
                sa.exc.SQLAlchemyError,
            ) as error:
                raise ShelfError(
                    f"{path} holds a line that is not an entry of a run here: "
                    f"{str(error).splitlines()[0]}",
                    "move it away; the shelf is unchanged",
                ) from None
            count += sum(e.sort == "pass" for e in entries)
            _remove(path, file)
    return count


def _remove(path: Path, file: IO[str]) -> None:
    """Remove a file that is open and locked here, and delivered."""
    if not WITHOUT_DESCRIPTORS:
        path.unlink(missing_ok=True)
        return
    # Nothing that is open can be removed here, which keeps the file of a living writer.
    file.close()
    with contextlib.suppress(PermissionError):
        path.unlink(missing_ok=True)


def _make_all(engine: sa.Engine, key: str, entries: Sequence[JournalEntry]) -> None:
    """Make a run's entries in one transaction."""
    with engine.begin() as c:
        for entry in entries:
            make(c, key, entry)


@contextlib.contextmanager
def _alone(path: Path) -> Iterator[IO[str] | None]:
    """Yield the file, locked, or None if another process has locked it."""
    try:
        # What others could have written there is none of ours, and stays where it is.
        file = os.fdopen(open_own(path, os.O_RDONLY), encoding="utf-8", errors="replace")
    except OSError:
        yield None
        return
    with file:
        try:
            lock(file, wait=False)
        except BlockingIOError:
            yield None
            return
        yield file if path.exists() else None
