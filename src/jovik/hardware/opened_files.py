"""Which files a command opens, told by the kernel (fanotify), and what memory holds of them.

fanotify(7) hands over every opened file as a descriptor, so that no path has to be trusted. The
page cache of a file is dropped by posix_fadvise(2); what somebody has mapped or is writing stays.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import struct
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field

from jovik.base.errors import TargetError

CLASS_NOTIFY, CLOSE_ON_EXEC, NON_BLOCKING = 0x0, 0x1, 0x2
MARK_ADD, MARK_FILE_SYSTEM = 0x1, 0x100
OPENED, OPENED_FOR_EXEC = 0x20, 0x1000
"""FAN_OPEN and FAN_OPEN_EXEC of <linux/fanotify.h>, as the values above."""
EVENT = struct.Struct("=IBBHQii")
CACHE_STAT = 451
"""cachestat(2), Linux 6.5; every architecture has it under this number."""
MOST_FILES = 20_000
HERE = -100
"""AT_FDCWD."""


@dataclass
class OpenedFiles:
    """Descriptors of the files that were opened, by what they are and the process that did."""

    found: dict[tuple[int, int], int] = field(default_factory=dict)
    askers: dict[tuple[int, int], set[int]] = field(default_factory=dict)
    left_out: int = 0

    def of(self, processes: set[int]) -> list[int]:
        """Descriptors of the files that one of these processes opened."""
        return [fd for key, fd in self.found.items() if self.askers[key] & processes]

    def close(self) -> None:
        """Close every descriptor."""
        for fd in self.found.values():
            os.close(fd)
        self.found.clear()


@contextlib.contextmanager
def watched(folder: str) -> Iterator[OpenedFiles]:
    """Note which files of the file system of `folder` are opened while this lasts.

    Raises
    ------
    TargetError
        The kernel does not tell: why, and what to do.
    """
    libc = ctypes.CDLL(None, use_errno=True)
    libc.fanotify_mark.argtypes = [
        ctypes.c_int,
        ctypes.c_uint,
        ctypes.c_uint64,
        ctypes.c_int,
        ctypes.c_char_p,
    ]
    flags = os.O_RDONLY | os.O_CLOEXEC | getattr(os, "O_LARGEFILE", 0)
    fd = libc.fanotify_init(CLASS_NOTIFY | CLOSE_ON_EXEC | NON_BLOCKING, flags)
    if fd < 0:
        raise _refused(ctypes.get_errno())
    opened, stop = OpenedFiles(), threading.Event()
    try:
        mark = MARK_ADD | MARK_FILE_SYSTEM
        if libc.fanotify_mark(fd, mark, OPENED | OPENED_FOR_EXEC, HERE, os.fsencode(folder)) < 0:
            raise _refused(ctypes.get_errno())
        reader = threading.Thread(target=_read_all, args=(fd, opened, stop), daemon=True)
        reader.start()
        try:
            yield opened
        finally:
            stop.set()
            reader.join()
    finally:
        os.close(fd)
        opened.close()


def _refused(number: int) -> TargetError:
    return TargetError(
        f"the kernel does not tell which files a command opens: {os.strerror(number)}",
        "--cold needs root, and a kernel with fanotify",
    )


def _read_all(fd: int, opened: OpenedFiles, stop: threading.Event) -> None:
    while True:
        ended = stop.is_set()
        try:
            content = os.read(fd, 65_536)
        except BlockingIOError:
            if ended:
                return
            stop.wait(0.01)
            continue
        at = 0
        while at + EVENT.size <= len(content):
            size, _, _, _, _, file, process = EVENT.unpack_from(content, at)
            at += max(size, EVENT.size)
            if file >= 0:
                _enter(opened, file, process)


def _enter(opened: OpenedFiles, file: int, process: int) -> None:
    about = os.fstat(file)
    key = (about.st_dev, about.st_ino)
    opened.askers.setdefault(key, set()).add(process)
    if key in opened.found or len(opened.found) >= MOST_FILES:
        opened.left_out += key not in opened.found
        os.close(file)
    else:
        opened.found[key] = file


def drop_from_memory(files: list[int]) -> tuple[int, int | None]:
    """Drop what the page cache holds of these open files.

    Returns
    -------
    files : int
        How many there were.
    left_bytes : int or None
        What memory still holds of them, since somebody has it mapped; None where the kernel does
        not tell.
    """
    left: int | None = 0
    for fd in files:
        with contextlib.suppress(OSError):
            # What is not written yet cannot be dropped.
            os.fdatasync(fd)
        with contextlib.suppress(OSError):
            os.posix_fadvise(fd, 0, 0, os.POSIX_FADV_DONTNEED)
        held = _held_bytes(fd)
        left = left + held if left is not None and held is not None else None
    return len(files), left


def _held_bytes(fd: int) -> int | None:
    """Bytes of a file in the page cache; None where the kernel does not tell."""
    span = (ctypes.c_uint64 * 2)(0, 0)
    found = (ctypes.c_uint64 * 5)()
    call = ctypes.CDLL(None).syscall
    if call(CACHE_STAT, fd, ctypes.byref(span), ctypes.byref(found), 0) < 0:
        return None
    return int(found[0]) * os.sysconf("SC_PAGE_SIZE")
