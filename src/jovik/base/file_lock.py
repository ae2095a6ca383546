"""Locks on open files that end with their process."""

from __future__ import annotations

from typing import IO


def lock(file: IO[str], *, wait: bool = True) -> None:
    """Lock an open file for this process, where a lock keeps nobody from reading.

    On Windows a lock would, and there is none. Nobody can remove a file there that is open.

    Raises
    ------
    BlockingIOError
        Another process has locked it, and `wait` is false.
    """
    try:
        import fcntl
    except ImportError:
        return
    fcntl.flock(file, fcntl.LOCK_EX if wait else fcntl.LOCK_EX | fcntl.LOCK_NB)
