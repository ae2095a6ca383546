"""From a system error to a Jovik error: the drive's, or the environment's."""

from __future__ import annotations

import errno
import os

from jovik.base.errors import DriveError, RefusedError, TargetError
from jovik.base.trace import IoFault

ENVIRONMENT = {
    errno.ENOSPC: "free some space there",
    errno.EDQUOT: "raise the quota, or name another folder",
    errno.EFBIG: "the limit on file sizes is too low: see ulimit -f",
    errno.EROFS: "the file system is read-only now; the kernel log may give the reason",
    errno.ENOENT: "the folder was removed meanwhile",
    errno.ENOMEM: "close other programs, or lower the depth; see ulimit -l and ulimit -v too",
    errno.EAGAIN: "the limit on processes and threads is too low: see ulimit -u",
    errno.EMFILE: "the limit on open files is too low: see ulimit -n",
    errno.ENFILE: "close other programs: no more files can be opened on this system",
    errno.EACCES: "the rights of the folder were changed meanwhile",
    errno.EPERM: "the rights of the folder were changed meanwhile",
}
"""System errors that are not the drive's fault, with advice for each."""
NO_THREAD = "can't start new thread"
"""How Python words that the system gave it no thread."""


def fault_error(fault: IoFault, when: str, hint: str) -> DriveError | TargetError:
    """Return the error of an I/O that failed.

    Parameters
    ----------
    when : str
        Such as ``"0.25 s into the pass"``.
    hint : str
        Advice if the drive failed.
    """
    if fault.errno in ENVIRONMENT:
        return TargetError(
            f"a {fault.direction} was refused {when}: {fault.what}",
            f"{ENVIRONMENT[fault.errno]}; earlier measurements are on the shelf",
        )
    return DriveError(
        f"the drive failed a {fault.direction} at byte {fault.offset_bytes}, {when}: {fault.what}"
        + (
            f"; the last write that it confirmed ended at byte {fault.confirmed_bytes:,}"
            if fault.confirmed_bytes is not None
            else ""
        ),
        hint,
    )


def environment_error(error: BaseException) -> RefusedError | None:
    """Return the refusal of the system as an error to show, or None for any other error."""
    if isinstance(error, MemoryError):
        return RefusedError("there is not enough memory", ENVIRONMENT[errno.ENOMEM])
    if isinstance(error, RuntimeError) and NO_THREAD in str(error):
        return RefusedError("no more threads can be started", ENVIRONMENT[errno.EAGAIN])
    if not isinstance(error, OSError) or error.errno is None:
        return None
    reason = error.strerror or os.strerror(error.errno)
    where = f"{error.filename}: " if isinstance(error.filename, str) else ""
    return RefusedError(f"the system refused: {where}{reason}", ENVIRONMENT.get(error.errno, ""))
