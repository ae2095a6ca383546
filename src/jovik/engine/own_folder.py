"""A folder of Jovik's own on the target, in which nobody can turn a path elsewhere.

Who owns the target's folder may swap anything in it for a link while Jovik, perhaps as root, writes
and cleans up. So the folder is held open, everything below it is reached through that descriptor
without following links, and what is deleted is what the descriptor stands for. A killed process
leaves the folder behind, unlocked; the next start on the target takes it away.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import secrets
import shutil
import time
from pathlib import Path

NAME_PREFIX = ".jovik-files-"
LOCK, READY, FILES = "in-use", "ready", "files"
YOUNG_S = 5.0
"""A younger folder without the mark that it is locked may be locked in a moment."""
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


class OwnFolder:
    """A folder with a name of its own on the target, made at once.

    Parameters
    ----------
    target : Path
        The folder that is being measured.

    Attributes
    ----------
    fd : int
        Its descriptor.

    Raises
    ------
    OSError
        It cannot be made.
    """

    def __init__(self, target: Path) -> None:
        self._target = os.open(target, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        self._name = f"{NAME_PREFIX}{secrets.token_hex(6)}"
        self._last: tuple[str, int] | None = None
        self.fd = -1
        self._lock = -1
        try:
            os.mkdir(self._name, 0o700, dir_fd=self._target)
            self.fd = os.open(self._name, _FOLDER, dir_fd=self._target)
            if os.fstat(self.fd).st_uid != os.geteuid():
                raise PermissionError(
                    errno.EPERM, "another user has put a folder there", self._name
                )
            self._lock = _make(LOCK, self.fd)
            fcntl.flock(self._lock, fcntl.LOCK_EX)
            os.close(_make(READY, self.fd))
        except BaseException:
            self.close()
            raise

    def create(self, name: str) -> int:
        """Return a new file for writing, at a relative path of which the folders are made."""
        folder, _, last = name.rpartition("/")
        return _make(last, self._folder(folder, make=True))

    def open(self, name: str) -> int:
        """Return a file for reading, at a relative path."""
        folder, _, last = name.rpartition("/")
        flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
        return os.open(last, flags, dir_fd=self._folder(folder, make=False))

    def _folder(self, name: str, *, make: bool) -> int:
        """Return a subfolder. The last one stays open, because files come folder by folder."""
        if self._last is not None and self._last[0] == name:
            return self._last[1]
        self._forget()
        at = os.dup(self.fd)
        for part in [FILES, *filter(None, name.split("/"))]:
            if make:
                with contextlib.suppress(FileExistsError):
                    os.mkdir(part, 0o700, dir_fd=at)
            try:
                below = os.open(part, _FOLDER, dir_fd=at)
            finally:
                os.close(at)
            at = below
        self._last = (name, at)
        return at

    def _forget(self) -> None:
        if self._last is not None:
            os.close(self._last[1])
            self._last = None

    def clear(self) -> None:
        """Remove every file, but not the folder."""
        self._forget()
        shutil.rmtree(FILES, ignore_errors=True, dir_fd=self.fd)

    def close(self) -> None:
        """Remove it with all that is in it."""
        if self.fd >= 0:
            self.clear()
            _remove(self._name, self.fd, self._target)
        for fd in (self._lock, self.fd, self._target):
            if fd >= 0:
                os.close(fd)
        self._lock = self.fd = self._target = -1


def sweep(target: Path) -> None:
    """Remove unlocked folders of this user that killed processes left on a target.

    Raises
    ------
    OSError
        The target cannot be opened.
    """
    top = os.open(target, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for name in os.listdir(top):
            if name.startswith(NAME_PREFIX):
                with contextlib.suppress(OSError):
                    _sweep_one(name, top)
    finally:
        os.close(top)


def _sweep_one(name: str, top: int) -> None:
    folder = os.open(name, _FOLDER, dir_fd=top)
    lock = -1
    try:
        facts = os.fstat(folder)
        if facts.st_uid != os.geteuid():
            return
        inside = os.listdir(folder)
        if READY not in inside and time.time() - facts.st_mtime < YOUNG_S:
            return
        if LOCK in inside:
            lock = os.open(LOCK, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        shutil.rmtree(FILES, ignore_errors=True, dir_fd=folder)
        _remove(name, folder, top)
    finally:
        for fd in (lock, folder):
            if fd >= 0:
                os.close(fd)


def _remove(name: str, folder: int, top: int) -> None:
    """Remove an emptied folder: its own files, then its name if that still stands for it."""
    for own in (READY, LOCK):
        with contextlib.suppress(OSError):
            os.unlink(own, dir_fd=folder)
    with contextlib.suppress(OSError):
        entry, held = os.stat(name, dir_fd=top, follow_symlinks=False), os.fstat(folder)
        if (entry.st_dev, entry.st_ino) == (held.st_dev, held.st_ino):
            # Whatever takes the name in this moment: only an empty folder can be removed so.
            os.rmdir(name, dir_fd=top)


def _make(name: str, folder: int) -> int:
    flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    return os.open(name, flags, 0o600, dir_fd=folder)
