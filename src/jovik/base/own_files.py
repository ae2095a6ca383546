"""Files that only this user could have written, for everything that is executed or trusted.

A folder or file that somebody else owns, may write to, or reaches by a link is not ours, whatever
lies in it. On Windows, the access list of the user's profile holds for what is in it. Under
`sudo -E` the home folder is another user's, and so is what was kept there.
"""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

from jovik.base.by_name import WITHOUT_DESCRIPTORS

OTHERS_WRITE = stat.S_IWGRP | stat.S_IWOTH


def make_own_folder(path: Path) -> None:
    """Create a folder that only the effective user can access, if there is none.

    One that is this user's, but that a generous umask had left open to a group, is closed.

    Raises
    ------
    OSError
        It belongs to another user, is a link, or cannot be made.
    """
    path.mkdir(parents=True, exist_ok=True, mode=0o700)
    if WITHOUT_DESCRIPTORS:
        return
    fd = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        facts = os.fstat(fd)
        if facts.st_uid != os.geteuid():
            raise PermissionError(errno.EPERM, "it is not this user's own", str(path))
        if facts.st_mode & OTHERS_WRITE:
            os.fchmod(fd, 0o700)
    finally:
        os.close(fd)


def read_own(path: Path) -> bytes:
    """Return the content of a file in a folder of one's own.

    Raises
    ------
    OSError
        It is not there, or the file or its folder is not (only) this user's.
    """
    with os.fdopen(open_own(path, os.O_RDONLY), "rb") as file:
        return file.read()


def open_own(path: Path, flags: int) -> int:
    """Return a descriptor of a file in a folder of one's own, with more flags.

    Made where that is asked.

    Raises
    ------
    OSError
        As `read_own`.
    """
    if WITHOUT_DESCRIPTORS:
        return os.open(path, flags | getattr(os, "O_BINARY", 0), 0o600)
    folder = _open(path.parent, os.O_DIRECTORY)
    try:
        return _open(path.name, flags, folder)
    finally:
        os.close(folder)


def _open(name: str | Path, flags: int, folder: int | None = None) -> int:
    flags |= os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
    fd = os.open(name, flags, 0o600, dir_fd=folder)
    facts = os.fstat(fd)
    is_sort = stat.S_ISDIR if flags & os.O_DIRECTORY else stat.S_ISREG
    if not is_sort(facts.st_mode) or facts.st_uid != os.geteuid() or facts.st_mode & OTHERS_WRITE:
        os.close(fd)
        raise PermissionError(errno.EPERM, "it is not this user's own", str(name))
    return fd
