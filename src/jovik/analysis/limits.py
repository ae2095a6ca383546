"""What other than the drive bounded a result."""

from __future__ import annotations

import statistics
from collections.abc import Sequence

from jovik.results import Limit, PassFigures

NEAR_CEILING = 0.7
"""Share of the tester's ceiling from which on a figure may be the tester's."""
BUSY = 0.9
"""Share of its time that a measuring thread may work for; above it the thread is what holds the rate down."""


def tester_limits(passes: Sequence[PassFigures], ceiling_iops: float | None, block_bytes: int, threads: int) -> tuple[Limit, ...]:
    """The limits that lie in the tester itself.

    Parameters
    ----------
    passes : sequence of PassFigures
    ceiling_iops : float or None
        What the same loop does with nothing behind it, at the same depth and with as many workers.
    block_bytes : int
    threads : int
        Measuring threads, each of which has one core at most.
    """
    found = []
    iops = statistics.median(p.iops for p in passes)
    if ceiling_iops is not None and iops > NEAR_CEILING * ceiling_iops:
        found.append(Limit("tester", ceiling_iops * block_bytes, f"the tester's own ceiling here is {ceiling_iops:.0f} IOPS"))
    busy = statistics.median(p.cpu_ns / p.elapsed_ns if p.elapsed_ns else 0.0 for p in passes)
    if busy > BUSY * threads:
        found.append(
            Limit("processor", iops * block_bytes, f"the measuring thread{'s were' if threads > 1 else ' was'} busy all the time; try more workers")
        )
    return tuple(found)
