"""Requests one after the other, to measure the overhead between a program and its drive."""

from __future__ import annotations

import numpy as np

from jovik.base.recording import CHUNK, Kind, Recording

FEW, MANY = 20, 500
"""Requests of a chain: those that tell whether the drive is worth the look, and those that count.

The kernel counts a drive's time in whole milliseconds, which 500 requests make 2 µs of each.
"""
BLOCK_BYTES = 4096
WRITTEN_BYTES = (FEW + MANY) * BLOCK_BYTES
"""Bytes that measuring the overhead of writes writes."""
THINK_NS = 200_000
"""Between a request and the next, as programs think: who is woken from sleep is slower."""


def chain(kind: Kind, count: int) -> Recording:
    """Return 4 KiB requests in order within 1 MiB, each a while after the previous one."""
    number = np.arange(count, dtype=np.int64)
    ones = np.ones(count, np.int64)
    issue = number * (THINK_NS + 1)
    return Recording(
        name="chain",
        issue_ns=issue,
        done_ns=issue + 1,
        kind=ones * kind,
        flags=ones * 0,
        offset=number % (CHUNK // BLOCK_BYTES) * BLOCK_BYTES,
        bytes=ones * BLOCK_BYTES,
        asker=ones * 0,
        elapsed_ns=int(issue[-1]) + 1,
    )
