"""The test file: unnamed where the file system allows, so that nothing is left behind."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import secrets
import shutil
import stat
import struct
import sys
import time
from pathlib import Path

from jovik.base.errors import TargetError
from jovik.base.fault_errors import ENVIRONMENT
from jovik.base.io_session import PurgeResult
from jovik.base.quantities import show_size
from jovik.engine.own_folder import sweep
from jovik.engine.reserved_space import floor_bytes, reserved_bytes, writable_bytes
from jovik.hardware.device import on_system_volume
from jovik.hardware.mounts import read_mounts

CACHE_ONLY = {0x01021994: "tmpfs", 0x858458F6: "ramfs"}
"""File systems (`statfs(2)` magic) that accept O_DIRECT but keep data in memory all the same."""


def in_memory(folder: Path) -> str | None:
    """Return the name of the file system if it is in memory, otherwise None."""
    device = os.stat(folder).st_dev
    mounts = read_mounts().get(f"{os.major(device)}:{os.minor(device)}", [])
    return next((m.kind for m in mounts if m.kind in CACHE_ONLY.values()), None)


FITRIM = 0xC0185879
"""FITRIM of <linux/fs.h>."""
NAME_PREFIX = ".jovik-test-"
"""Name prefix of a test file on file systems without unnamed files."""
LEFTOVER_AFTER_S = 10.0
LITTLE_BYTES = 4 * 2**20
"""More than a file system keeps for itself of its last blocks."""


class IoFile:
    """An open file in a folder, gone when it is closed or when the process dies.

    Attributes
    ----------
    fd : int
        The open file.
    direct : bool
        Whether the operating system's cache is out of the way.

    Raises
    ------
    TargetError
        The folder cannot be written.
    """

    __test__ = False

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.writable = True
        self.block_bytes = logical_block_bytes(folder)
        self.direct = False
        self._system = on_system_volume(folder)
        usage = shutil.disk_usage(folder)
        self._floor_bytes = floor_bytes(usage.total, usage.free, system=self._system)
        wanted = os.O_DIRECT if hasattr(os, "O_DIRECT") and in_memory(folder) is None else 0
        with contextlib.suppress(OSError):
            sweep(folder)
        self._sweep()
        try:
            self.fd = self._open(wanted)
        except OSError as error:
            if not (wanted and error.errno == errno.EINVAL):
                raise TargetError(
                    f"cannot write a test file in {folder}: {error.strerror}",
                    "name a folder that you may write to",
                ) from None
            self.fd = self._open(0)
            wanted = 0
        self.direct = bool(wanted)
        if sys.platform == "darwin":
            fcntl.fcntl(self.fd, fcntl.F_NOCACHE, 1)
            self.direct = True

    def _sweep(self) -> None:
        """Remove test files left by a process killed before it could unlink them."""
        top = os.open(self.folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            for name in os.listdir(top):
                if not name.startswith(NAME_PREFIX):
                    continue
                with contextlib.suppress(OSError):
                    facts = os.stat(name, dir_fd=top, follow_symlinks=False)
                    if (
                        stat.S_ISREG(facts.st_mode)
                        and facts.st_uid == os.geteuid()
                        and time.time() - facts.st_mtime > LEFTOVER_AFTER_S
                    ):
                        os.unlink(name, dir_fd=top)
        except OSError:
            return
        finally:
            os.close(top)

    def _open(self, extra: int) -> int:
        flags = os.O_RDWR | os.O_CLOEXEC | extra
        top = os.open(self.folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            if hasattr(os, "O_TMPFILE"):
                try:
                    return os.open(".", flags | os.O_TMPFILE, 0o600, dir_fd=top)
                except OSError as error:
                    # EISDIR and ENOENT come from kernels, EOPNOTSUPP from file systems that do not
                    # know unnamed files.
                    unknown = (errno.EISDIR, errno.EOPNOTSUPP, errno.ENOENT, errno.EINVAL)
                    if error.errno not in unknown:
                        raise
            name = f"{NAME_PREFIX}{secrets.token_hex(8)}"
            fd = os.open(name, flags | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600, dir_fd=top)
            os.unlink(name, dir_fd=top)
            return fd
        finally:
            os.close(top)

    def check_space(self, span_bytes: int) -> None:
        """Refuse a size that would fill the file system completely.

        Raises
        ------
        TargetError
            With how much is needed.
        """
        if span_bytes > self.free_bytes():
            usage = shutil.disk_usage(self.folder)
            raise TargetError(
                f"{self.folder} has {show_size(usage.free)} free; this needs "
                f"{show_size(span_bytes)} and must leave "
                f"{show_size(reserved_bytes(usage.total, system=self._system))} free"
                f"{': the system runs from this drive' if self._system else ''}",
                "free some space, name another folder, or add 'within SPAN' to the phrase",
            )

    def free_bytes(self) -> int:
        """Return the bytes that may still be written. The test file's own bytes count as free."""
        usage = shutil.disk_usage(self.folder)
        held = os.fstat(self.fd).st_blocks * 512
        return writable_bytes(usage.total, usage.free, system=self._system) + held

    def to_fill_bytes(self, percent: int) -> int:
        """Return bytes that are missing until the file system is so full.

        Raises
        ------
        TargetError
            Some of it has to stay free.
        """
        usage = shutil.disk_usage(self.folder)
        whole = usage.used + usage.free
        missing = max(round(whole * percent / 100) - usage.used, 0)
        reserved = reserved_bytes(usage.total, system=self._system)
        if missing and missing > usage.free - reserved:
            most = int(100 * (whole - reserved) / whole)
            why = ", because the system runs from this drive" if self._system else ""
            raise TargetError(
                f"{self.folder} is not filled to {percent} %: some of it has to stay free, "
                f"{show_size(reserved)}{why}",
                f"at most {most} % is possible here",
            )
        return missing

    def squeezed(self) -> str:
        """See `jovik.engine.storage.Storage`."""
        free = shutil.disk_usage(self.folder).free
        if free >= self._floor_bytes:
            return ""
        return (
            f"only {show_size(free)} is free in {self.folder} now: other programs have used "
            "space that must "
            "stay free"
        )

    def has_space(self) -> bool:
        """See `jovik.engine.storage.Storage`."""
        return shutil.disk_usage(self.folder).free > LITTLE_BYTES

    def capacity_bytes_addressed(self) -> int | None:
        """Return None, because there is a file system in between."""
        return None

    def fill_percent(self) -> float | None:
        """Return how full the file system is."""
        usage = shutil.disk_usage(self.folder)
        return 100.0 * usage.used / (usage.used + usage.free) if usage.used + usage.free else None

    def reserve(self, size_bytes: int) -> None:
        """Give the file this size with space of its own behind it, as far as the file system can.

        Raises
        ------
        TargetError
            There is not that much space.
        """
        try:
            if hasattr(os, "posix_fallocate") and sys.platform == "linux":
                try:
                    _fallocate(self.fd, size_bytes)
                except OSError as error:
                    if error.errno not in (errno.EOPNOTSUPP, errno.ENOSYS):
                        raise
            if os.fstat(self.fd).st_size < size_bytes:
                os.ftruncate(self.fd, size_bytes)
        except OSError as error:
            raise TargetError(
                f"cannot make room for a test file of {size_bytes} bytes in {self.folder}: "
                f"{error.strerror}",
                ENVIRONMENT.get(error.errno or 0, ""),
            ) from None

    def empty(self) -> None:
        """Give all its space back."""
        os.ftruncate(self.fd, 0)

    def discard(self) -> str:
        """Have the file system discard its free space. Return the reason if that failed."""
        try:
            fd = os.open(self.folder, os.O_RDONLY | os.O_CLOEXEC)
            try:
                fcntl.ioctl(fd, FITRIM, struct.pack("QQQ", 0, 2**64 - 1, 0))
            finally:
                os.close(fd)
        except OSError as error:
            why = {
                errno.EPERM: "that needs root",
                errno.EOPNOTSUPP: "it cannot",
                errno.ENOTTY: "it cannot",
            }
            return (
                "the file system did not discard its free space: "
                f"{why.get(error.errno or 0, error.strerror)}"
            )
        return ""

    def purge(self, note: str) -> PurgeResult:
        """Return the result of discarding the free space, because a folder allows no more."""
        return PurgeResult(
            "discarding free space",
            note or "done",
            "other files, the file system itself, and spare flash",
        )

    def sync(self) -> None:
        """Flush written data and the drive's own cache to the medium."""
        if hasattr(fcntl, "F_FULLFSYNC"):
            fcntl.fcntl(self.fd, fcntl.F_FULLFSYNC)
        else:
            os.fdatasync(self.fd)

    def close(self) -> None:
        """Close it, and with that remove it."""
        if self.fd >= 0:
            os.close(self.fd)
            self.fd = -1


def _fallocate(fd: int, size_bytes: int) -> None:
    """`fallocate(2)` itself.

    `posix_fallocate` would write zeros through the cache if it is not supported.
    """
    import ctypes

    libc = ctypes.CDLL(None, use_errno=True)
    if libc.fallocate64(fd, 0, ctypes.c_int64(0), ctypes.c_int64(size_bytes)) != 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))


def logical_block_bytes(folder: Path) -> int:
    """Return the smallest block of the device under a folder, or 512 if unknown."""
    device = os.stat(folder).st_dev
    node = Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}")
    for path in (node, node.resolve().parent if node.exists() else node):
        try:
            return int((path / "queue" / "logical_block_size").read_text())
        except (OSError, ValueError):
            continue
    return 512
