"""How much longer a request takes to a program than to its drive here.

A recording has its times from the drive's end: what a program's call, the file system and being
woken took is part of the recorded think times. A replay is a program too, and has that overhead
again on top of them.
"""

from __future__ import annotations

import logging
import statistics
from collections.abc import Callable
from dataclasses import dataclass

from jovik.base.chain import CHAINS, FEW, MANY, chain
from jovik.base.recording import Kind, Recording
from jovik.hardware.service_time import Served, served

log = logging.getLogger(__name__)

SLOW_NS = 500_000
"""A drive that takes so long is not worth the look: the overhead is a small part of it."""
OTHERS_LIMIT = 0.01
"""Maximum fraction of requests by others at which the kernel's count is used."""
SPREAD_NS, SPREAD = 20_000, 0.5
"""How far chains may lie apart, or as a share of their median, before none of them is used."""


@dataclass(frozen=True)
class Overhead:
    """How much longer a request takes to a program than to its drive, nanoseconds.

    The median of several chains, and the lowest and highest of them.
    """

    median_ns: int = 0
    low_ns: int = 0
    high_ns: int = 0

    @property
    def certain(self) -> bool:
        """Return True if the chains agree well enough to use it."""
        return self.high_ns - self.low_ns <= self.tolerance_ns

    @property
    def tolerance_ns(self) -> float:
        """Return how far chains may lie apart."""
        return max(SPREAD_NS, self.median_ns * SPREAD)

    @property
    def used_ns(self) -> int:
        """Return what is taken off think times: nothing if it is not certain."""
        return self.median_ns if self.certain else 0


@dataclass(frozen=True)
class HostOverhead:
    """The overhead of reads and of writes, 0 if unknown."""

    read: Overhead = Overhead()
    write: Overhead = Overhead()


NO_OVERHEAD = HostOverhead()


def host_overhead(
    device: str, waited_ns: Callable[[Recording], int], think_ns: int, *, writing: bool
) -> HostOverhead:
    """Return the overhead on a drive, by chains of reads and, if `writing`, of writes.

    Parameters
    ----------
    device : str
        Kernel name of the drive.
    waited_ns : callable
        Does a recording, and gives how long was waited for the drive.
    think_ns : int
        Between a request and the next. Who is woken from a longer sleep is slower.
    """

    def of(kind: Kind) -> Overhead:
        return _overhead(kind, device, waited_ns, think_ns)

    return HostOverhead(of(Kind.READ), of(Kind.WRITE) if writing else Overhead())


def _overhead(
    kind: Kind, device: str, waited_ns: Callable[[Recording], int], think_ns: int
) -> Overhead:
    """Return a program's mean wait for a request, less the kernel's count for the drive.

    0 if the kernel does not count, the drive is slow, or others use it meanwhile.
    """
    if served(device) is None or waited_ns(chain(kind, FEW, think_ns)) > FEW * SLOW_NS:
        return Overhead()
    found = []
    for _ in range(CHAINS):
        before = served(device)
        waited = waited_ns(chain(kind, MANY, think_ns))
        after = served(device)
        if before is None or after is None:
            return Overhead()
        count, taken_ns = (b - a for a, b in zip(_of(kind, before), _of(kind, after), strict=True))
        if not MANY <= count <= MANY * (1 + OTHERS_LIMIT):
            log.debug("the overhead on %s cannot be told: %d requests for %d", device, count, MANY)
            return Overhead()
        found.append(max(round(waited / MANY - taken_ns / count), 0))
    overhead = Overhead(round(statistics.median(found)), min(found), max(found))
    log.debug("%s: %s to a program longer than to the drive", kind.name, overhead)
    return overhead


def _of(kind: Kind, counted: Served) -> tuple[int, int]:
    if kind is Kind.READ:
        return counted.reads, counted.read_ns
    return counted.writes, counted.write_ns
