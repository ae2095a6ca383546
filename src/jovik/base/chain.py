"""Requests one after the other, to measure the overhead between a program and its drive."""

from __future__ import annotations

import numpy as np

from jovik.base.recording import CHUNK, Kind, Recording

FEW, MANY, CHAINS = 20, 150, 6
"""Requests of a chain: those that tell whether the drive is worth the look, and those that count.

The kernel counts a drive's time in whole milliseconds, which 150 requests make 7 µs of each. The
lowest and the highest of six chains hold the median in 97 of 100 cases (a sign test).
"""
BLOCK_BYTES = 4096
WRITTEN_BYTES = (FEW + CHAINS * MANY) * BLOCK_BYTES
"""Bytes that measuring the overhead of writes writes."""
THINK_NS = 5_000, 500_000
"""The shortest and the longest time between a request and the next."""


def chain(kind: Kind, count: int, think_ns: int) -> Recording:
    """Return 4 KiB requests in order within 1 MiB, each a while after the previous one."""
    number = np.arange(count, dtype=np.int64)
    ones = np.ones(count, np.int64)
    issue = number * (think_ns + 1)
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
