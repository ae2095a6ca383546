"""The time that a drive took for its requests, by the kernel's own count."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Served:
    """Reads and writes that a drive has completed, and how long they took together."""

    reads: int
    read_ns: int
    writes: int
    write_ns: int


def statistics_of(device: str, sys: Path = Path("/sys")) -> list[int]:
    """Return the statistics of a block device, in the order of Documentation/block/stat.rst.

    Raises
    ------
    OSError, ValueError
        There are none.
    """
    return [int(x) for x in (sys / "block" / device / "stat").read_text().split()]


def served(device: str, sys: Path = Path("/sys")) -> Served | None:
    """Return the drive's total work since it was attached, or None if unknown.

    Fields 1, 4, 5 and 8 of the statistics of a block device (Documentation/block/stat.rst). Times
    are in whole milliseconds, from when the kernel had a request for the drive until it was done.

    Parameters
    ----------
    device : str
        Kernel name of the drive.
    """
    try:
        fields = statistics_of(device, sys)
        if (sys / "block" / device / "queue" / "iostats").read_text().strip() == "0":
            return None
        return Served(fields[0], fields[3] * 1_000_000, fields[4], fields[7] * 1_000_000)
    except (OSError, ValueError, IndexError):
        return None
