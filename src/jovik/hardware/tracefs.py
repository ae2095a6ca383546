"""The kernel's trace events, at their mount or reached without a mount."""

from __future__ import annotations

import contextlib
import ctypes
import os
import sys
from collections.abc import Iterator
from pathlib import Path

from jovik.base.errors import TargetError

TRACE_FOLDERS = (Path("/sys/kernel/tracing"), Path("/sys/kernel/debug/tracing"))
FSOPEN, FSCONFIG, FSMOUNT = 430, 431, 432
"""System calls that every architecture numbers alike (Linux 5.2)."""
CLOSE_ON_EXEC = 1
"""FSOPEN_CLOEXEC and FSMOUNT_CLOEXEC of <linux/mount.h>."""
CREATE = 6
"""FSCONFIG_CMD_CREATE."""


@contextlib.contextmanager
def trace_events() -> Iterator[Path]:
    """Give the folder of the kernel's trace events while this lasts.

    Where none is mounted, root is given a mount that has no place in the system's tree: nobody
    else sees it, and it is gone when this ends.

    Raises
    ------
    TargetError
        The kernel has none, or does not let this process see them, with the reason and advice.
    """
    # Others than root may not even look into it, which is no error here.
    mounted = next((p for p in TRACE_FOLDERS if os.path.isdir(p / "events" / "block")), None)
    if mounted is not None:
        yield mounted
        return
    root = sys.platform == "linux" and os.geteuid() == 0
    fd = _detached_mount() if root else None
    try:
        folder = Path(f"/proc/self/fd/{fd}")
        if fd is None or not os.path.isdir(folder / "events" / "block"):
            raise TargetError(
                "the kernel's trace events cannot be seen here",
                "the kernel has to be built with them (CONFIG_BLK_DEV_IO_TRACE or CONFIG_FTRACE)"
                if root
                else "recording needs root: sudo jovik record ...",
            )
        yield folder
    finally:
        if fd is not None:
            os.close(fd)


def _detached_mount() -> int | None:
    """Return a mount of tracefs as an open folder, or None if the kernel refuses."""
    call = ctypes.CDLL(None).syscall
    context = call(FSOPEN, b"tracefs", CLOSE_ON_EXEC)
    if context < 0:
        return None
    try:
        if call(FSCONFIG, context, CREATE, None, None, 0) < 0:
            return None
        fd: int = call(FSMOUNT, context, CLOSE_ON_EXEC, 0)
        return fd if fd >= 0 else None
    finally:
        os.close(context)
