"""The space of a file system that always stays free."""

from __future__ import annotations

LEAST_FREE, LEAST_FREE_SHARE = 2**30, 20
SYSTEM_SHARE = 10
"""Of the drive that the system runs from, a tenth: logs, updates and swap files need it."""
SMALL_BYTES = 4 * 2**30
"""A test this small is made on a system drive that is fuller than that, too."""


def reserved_bytes(total_bytes: int, *, system: bool = False) -> int:
    """Return the part of a file system that is never filled: a twentieth, but 1 GiB at most.

    Parameters
    ----------
    system : bool
        Whether the system runs from its drive.
    """
    if system:
        return total_bytes // SYSTEM_SHARE
    return min(LEAST_FREE, total_bytes // LEAST_FREE_SHARE)


def writable_bytes(total_bytes: int, free_bytes: int, *, system: bool = False) -> int:
    """Return the part of the free space that may be written."""
    plain = max(free_bytes - reserved_bytes(total_bytes), 0)
    if not system:
        return plain
    beyond = free_bytes - reserved_bytes(total_bytes, system=True)
    return max(beyond, min(plain, SMALL_BYTES), 0)


def floor_bytes(total_bytes: int, free_bytes: int, *, system: bool = False) -> int:
    """Return the level at which a pass ends, because others have taken reserved space.

    Half of the reserve: a file system's own bookkeeping takes a little of it during any write.
    `free_bytes` is the space that was free before the first write.
    """
    reserved = reserved_bytes(total_bytes, system=system)
    return (reserved if free_bytes >= reserved else reserved_bytes(total_bytes)) // 2
