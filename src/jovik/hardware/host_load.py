"""Other activity: the machine's processors, its host, and I/O of others to the same drive."""

from __future__ import annotations

import os
import time
from dataclasses import dataclass
from pathlib import Path

from jovik.hardware.service_time import statistics_of

SECTOR = 512


@dataclass(frozen=True)
class Counters:
    """A glance at the kernel's counters: seconds of all cores, and bytes that the drive moved."""

    busy_s: float
    stolen_s: float
    all_s: float
    own_s: float
    read_bytes: int
    written_bytes: int


def counters(
    device: str | None, sys: Path = Path("/sys"), proc: Path = Path("/proc")
) -> Counters | None:
    """Return the counters now, or None if the system has none.

    Parameters
    ----------
    device : str or None
        Kernel name of the drive.
    """
    try:
        numbers = [int(n) for n in (proc / "stat").read_text().split("\n", 1)[0].split()[1:9]]
    except (OSError, ValueError):
        return None
    read = written = 0
    if device is not None:
        try:
            # Sectors read are the third figure, sectors written the seventh.
            stat = statistics_of(device, sys)
            read, written = stat[2] * SECTOR, stat[6] * SECTOR
        except (OSError, ValueError, IndexError):
            pass
    ticks = os.sysconf("SC_CLK_TCK")
    user, nice, system, idle, wait, irq, softirq, stolen = numbers
    busy = user + nice + system + irq + softirq
    return Counters(
        busy / ticks,
        stolen / ticks,
        (busy + idle + wait + stolen) / ticks,
        time.process_time(),
        read,
        written,
    )


@dataclass(frozen=True)
class HostLoad:
    """Other activity during a pass, as fractions of all cores, and bytes."""

    busy: float
    own: float
    stolen: float
    other_bytes: int


def between(before: Counters | None, after: Counters | None, own_bytes: int) -> HostLoad | None:
    """Return the load between two readings. `own_bytes` are Jovik's own."""
    if before is None or after is None or after.all_s <= before.all_s:
        return None
    whole = after.all_s - before.all_s
    moved = after.read_bytes - before.read_bytes + after.written_bytes - before.written_bytes
    return HostLoad(
        (after.busy_s - before.busy_s) / whole,
        (after.own_s - before.own_s) / whole,
        (after.stolen_s - before.stolen_s) / whole,
        max(moved - own_bytes, 0),
    )


def bytes_moved_meanwhile(device: str, seconds: float = 0.2) -> float:
    """Return the bytes a second of all I/O on a drive now."""
    before = counters(device)
    time.sleep(seconds)
    after = counters(device)
    if before is None or after is None:
        return 0.0
    return (
        after.read_bytes - before.read_bytes + after.written_bytes - before.written_bytes
    ) / seconds
