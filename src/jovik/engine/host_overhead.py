"""How much longer a request takes to a program than to its drive here.

A recording has its times from the drive's end: what a program's call, the file system and being
woken took is part of the recorded think times. A replay is a program too, and has that overhead
again on top of them.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass

from jovik.base.chain import FEW, MANY, chain
from jovik.base.recording import Kind, Recording
from jovik.hardware.service_time import Served, served

log = logging.getLogger(__name__)

SLOW_NS = 500_000
"""A drive that takes so long is not worth the look: the overhead is a small part of it."""
OTHERS_LIMIT = 0.01
"""Maximum fraction of requests by others at which the kernel's count is used."""


@dataclass(frozen=True)
class HostOverhead:
    """How much longer a read and a write take to a program than to the drive, nanoseconds.

    0 if unknown.
    """

    read_ns: int = 0
    write_ns: int = 0


NO_OVERHEAD = HostOverhead()


def host_overhead(
    device: str, waited_ns: Callable[[Recording], int], *, writing: bool
) -> HostOverhead:
    """Return the overhead on a drive, by a chain of reads and, if `writing`, one of writes.

    Parameters
    ----------
    device : str
        Kernel name of the drive.
    waited_ns : callable
        Does a recording, and gives how long was waited for the drive.
    """
    read = _longer_ns(Kind.READ, device, waited_ns)
    return HostOverhead(read, _longer_ns(Kind.WRITE, device, waited_ns) if writing else 0)


def _longer_ns(kind: Kind, device: str, waited_ns: Callable[[Recording], int]) -> int:
    """Return a program's mean wait for a request, less the kernel's count for the drive.

    0 if the kernel does not count, the drive is slow, or others use it meanwhile.
    """
    if served(device) is None or waited_ns(chain(kind, FEW)) > FEW * SLOW_NS:
        return 0
    before = served(device)
    waited = waited_ns(chain(kind, MANY))
    after = served(device)
    if before is None or after is None:
        return 0
    count, taken_ns = (b - a for a, b in zip(_of(kind, before), _of(kind, after), strict=True))
    if not MANY <= count <= MANY * (1 + OTHERS_LIMIT):
        log.debug("the overhead on %s cannot be told: %d requests for %d", device, count, MANY)
        return 0
    longer = max(round(waited / MANY - taken_ns / count), 0)
    log.debug("%s: %d ns to a program, %d less to the drive", kind.name, waited // MANY, longer)
    return longer


def _of(kind: Kind, counted: Served) -> tuple[int, int]:
    if kind is Kind.READ:
        return counted.reads, counted.read_ns
    return counted.writes, counted.write_ns
