"""The files that a command opens, from the kernel (fanotify), and their pages in memory.

fanotify(7) hands over every opened file; it is kept by its path and its inode, so that no other
file is taken for it later. The page cache of a file is dropped by posix_fadvise(2); what somebody
has mapped or is writing stays.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import struct
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from jovik.base.errors import TargetError

CLASS_NOTIFY, CLOSE_ON_EXEC, NON_BLOCKING = 0x0, 0x1, 0x2
MARK_ADD, MARK_FILE_SYSTEM = 0x1, 0x100
OPENED, OPENED_FOR_EXEC = 0x20, 0x1000
"""FAN_OPEN and FAN_OPEN_EXEC of <linux/fanotify.h>, as the values above."""
EVENT = struct.Struct("=IBBHQii")
CACHE_STAT = 451
"""cachestat(2), Linux 6.5, under this number on every architecture."""
MOST_FILES = 20_000
AT_FDCWD = -100
"""AT_FDCWD."""


@dataclass(frozen=True)
class OpenedFile:
    """A file by its path, with the identity that distinguishes it from later ones."""

    path: str
    device: int
    inode: int


@dataclass
class OpenedFiles:
    """The files that were opened, each with the processes that did."""

    askers: dict[OpenedFile, set[int]] = field(default_factory=dict)
    left_out: int = 0

    def of(self, processes: set[int]) -> list[OpenedFile]:
        """Return the files that one of these processes opened."""
        return [file for file, by in self.askers.items() if by & processes]


@contextlib.contextmanager
def watched(folder: str) -> Iterator[OpenedFiles]:
    """Note which files of the file system of `folder` are opened while this lasts.

    Raises
    ------
    TargetError
        The kernel refuses, with the reason and advice.
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
        if (
            libc.fanotify_mark(fd, mark, OPENED | OPENED_FOR_EXEC, AT_FDCWD, os.fsencode(folder))
            < 0
        ):
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


def _refused(number: int) -> TargetError:
    return TargetError(
        f"the kernel does not report which files a command opens: {os.strerror(number)}",
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
    try:
        about = os.fstat(file)
        entry = OpenedFile(os.readlink(f"/proc/self/fd/{file}"), about.st_dev, about.st_ino)
    except OSError:
        return
    finally:
        os.close(file)
    if entry in opened.askers or len(opened.askers) < MOST_FILES:
        opened.askers.setdefault(entry, set()).add(process)
    else:
        opened.left_out += 1


def drop_all_from_memory() -> None:
    """Drop the page cache, names and attributes of all files (Documentation/admin-guide/sysctl/vm).

    Raises
    ------
    TargetError
        The system does not permit it.
    """
    os.sync()
    try:
        Path("/proc/sys/vm/drop_caches").write_text("3")
    except OSError as error:
        raise TargetError(
            f"memory cannot be told to forget: {error.strerror}", "--cold all needs root"
        ) from None


def drop_from_memory(files: Sequence[OpenedFile]) -> tuple[int, int | None]:
    """Drop these files from the page cache.

    Returns
    -------
    files : int
        The number of files. Files removed or replaced since are left alone.
    left_bytes : int or None
        What memory still holds of them, since somebody has it mapped, or None if the kernel does
        not tell.
    """
    count, held_bytes = 0, 0
    all_known = True
    for file in files:
        try:
            fd = os.open(file.path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError:
            continue
        try:
            about = os.fstat(fd)
            if (about.st_dev, about.st_ino) != (file.device, file.inode):
                continue
            with contextlib.suppress(OSError):
                # What is not written yet cannot be dropped.
                os.fdatasync(fd)
            with contextlib.suppress(OSError):
                os.posix_fadvise(fd, 0, 0, os.POSIX_FADV_DONTNEED)
            held = _held_bytes(fd)
            all_known = all_known and held is not None
            held_bytes += held or 0
            count += 1
        finally:
            os.close(fd)
    return count, held_bytes if all_known else None


def _held_bytes(fd: int) -> int | None:
    """Return the bytes of a file in the page cache, or None if the kernel does not report them."""
    span = (ctypes.c_uint64 * 2)(0, 0)
    counts = (ctypes.c_uint64 * 5)()
    call = ctypes.CDLL(None).syscall
    if call(CACHE_STAT, fd, ctypes.byref(span), ctypes.byref(counts), 0) < 0:
        return None
    return int(counts[0]) * os.sysconf("SC_PAGE_SIZE")
