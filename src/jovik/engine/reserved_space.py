"""The space of a file system that always stays free."""

from __future__ import annotations

LEAST_FREE, LEAST_FREE_SHARE = 2**30, 20


def reserved_bytes(total_bytes: int) -> int:
    """What is never filled of a file system: a twentieth, but 1 GiB at most."""
    return min(LEAST_FREE, total_bytes // LEAST_FREE_SHARE)
