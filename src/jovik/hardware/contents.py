"""Whether a raw device holds data: known marks, and anything else but zeros."""

from __future__ import annotations

import contextlib
import io
import os
import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

from jovik.base.quantities import show_size
from jovik.base.stamp import is_stamp
from jovik.hardware import libblkid, signatures

WHOLE_BYTES = 4 * 2**30
"""A smaller device is read completely before it is written."""
LOOK_S = 2.0
"""How long a larger one is sampled, beyond the places that are always looked at."""
SLOT_BYTES = 64 * 2**10
"""A device is looked at in slots of this size."""
EDGE_BYTES = 2**20
"""Bytes checked completely at the start and at the end."""
EVEN_SAMPLES = 64
"""Slots that divide the device evenly: the groups of XFS and the middle are among them."""
DENSE_BYTES, DENSE_STEP = 64 * 2**20, 2**20
"""A file system fills its start first: FAT and exFAT theirs, btrfs its first metadata."""
GROUP_BYTES, FIRST_GROUPS = 128 * 2**20, 16
"""Block groups of ext4 begin at multiples of this; copies of its superblock lie in groups that are
powers of 3, 5 and 7 (Documentation/filesystems/ext4/blockgroup.rst)."""
NTFS_TABLE = 3 * 2**30
"""Where the file table of NTFS begins with clusters of 4 KiB."""
_ZEROS = bytes(SLOT_BYTES)
STAMP_BYTES = 4096
"""Stamps stand at the head of each 4 KiB, or of each sector where blocks were smaller."""
SECTOR = 512


@dataclass(frozen=True)
class Contents:
    """The content found on a device.

    Attributes
    ----------
    marks : tuple of str
        Known marks, in words such as "an XFS file system".
    data_at : int or None
        The first byte found of something unknown, neither zeros nor written by Jovik.
    checked_bytes, size_bytes : int
        How much of how much was read to say so.
    has_own : bool
        True if blocks were found that Jovik wrote.
    note : str
        Checks that failed, empty if none did.
    """

    marks: tuple[str, ...] = ()
    data_at: int | None = None
    checked_bytes: int = 0
    size_bytes: int = 0
    has_own: bool = False
    note: str = ""

    @property
    def blank_words(self) -> str:
        """Return how much of the device is known to be blank, if no mark and no data were found."""
        blank = "blank, or written by Jovik," if self.has_own else "blank"
        if self.checked_bytes >= self.size_bytes:
            return f"{blank.rstrip(',')}: all of it was read"
        return (
            f"{blank} where checked: {show_size(self.checked_bytes)} of "
            f"{show_size(self.size_bytes)}"
        )


def look_into(device: BinaryIO, size_bytes: int, *, whole: bool = False) -> Contents:
    """Look for marks and for anything that is not zeros.

    Parameters
    ----------
    device : binary file
        Open for reading with a descriptor of its own, buffered.
    size_bytes : int
        Its capacity.
    whole : bool
        If true, read a device of less than `WHOLE_BYTES` completely, however long that takes.

    Raises
    ------
    OSError
        It cannot be read.
    """
    marks = [f"it holds {what}" for what in signatures.find(device, size_bytes)]
    note = ""
    if not libblkid.is_here():
        note = f"{libblkid.SONAME} is not here: only the marks that Jovik knows were looked for"
    elif not marks:
        marks = [f"it holds what libblkid calls '{n}'" for n in libblkid.find(device.fileno())]
    if marks:
        return Contents(tuple(marks), note=note)
    look = _Look(device, size_bytes)
    end = time.monotonic() + LOOK_S
    with _unhurried(device):
        if whole and size_bytes < WHOLE_BYTES:
            complete = all(look.slot(n) for n in range(-(-size_bytes // SLOT_BYTES)))
        else:
            complete = all(look.slot(n) for n in first_slots(size_bytes))
            for n in every_slot(size_bytes) if complete else ():
                if time.monotonic() > end or not look.slot(n):
                    break
    data_at = look.data_at
    return Contents((), data_at, look.checked_bytes, size_bytes, look.has_own, note)


def first_slots(size_bytes: int) -> list[int]:
    """List the slots that are always looked at, in rising order."""
    edge = EDGE_BYTES // SLOT_BYTES
    last = -(-size_bytes // SLOT_BYTES) - 1
    slots = {*range(edge), *range(last - edge, last + 1)}
    slots |= {last * n // EVEN_SAMPLES for n in range(EVEN_SAMPLES)}
    places = [*range(0, DENSE_BYTES, DENSE_STEP), NTFS_TABLE]
    powers = {base**n for base in (2, 3, 5, 7) for n in range(1, 40)}
    places += [GROUP_BYTES * group for group in {*range(FIRST_GROUPS), *powers}]
    slots |= {offset // SLOT_BYTES for offset in places}
    return sorted(n for n in slots if 0 <= n <= last)


def every_slot(size_bytes: int) -> Iterator[int]:
    """Yield every slot once, so that those so far always lie evenly over the whole device.

    Their numbers with the bits reversed (van der Corput, Proceedings KNAW 38, 1935).
    """
    count = -(-size_bytes // SLOT_BYTES)
    bits = max(count - 1, 0).bit_length()
    for n in range(1 << bits):
        slot = int(f"{n:0{bits}b}"[::-1], 2) if bits else 0
        if slot < count:
            yield slot


@contextlib.contextmanager
def _unhurried(device: BinaryIO) -> Iterator[None]:
    """Read without reading ahead, and leave nothing of it in the page cache."""
    advise = getattr(os, "posix_fadvise", None)
    with contextlib.suppress(OSError, io.UnsupportedOperation):
        if advise is not None:
            advise(device.fileno(), 0, 0, os.POSIX_FADV_RANDOM)
    try:
        yield
    finally:
        with contextlib.suppress(OSError, io.UnsupportedOperation):
            if advise is not None:
                advise(device.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)


class _Look:
    """Slots of a device that were read, until one holds something unknown."""

    def __init__(self, device: BinaryIO, size_bytes: int) -> None:
        self._device, self._size = device, size_bytes
        self._seen: set[int] = set()
        self.checked_bytes, self.has_own = 0, False
        self.data_at: int | None = None

    def slot(self, number: int) -> bool:
        """Read a slot, unless it was read before. Return False if it holds unknown content."""
        if number in self._seen:
            return True
        self._seen.add(number)
        at = number * SLOT_BYTES
        self._device.seek(at)
        content = self._device.read(min(SLOT_BYTES, self._size - at))
        self.checked_bytes += len(content)
        if content == _ZEROS[: len(content)]:
            return True
        for begin in range(0, len(content), STAMP_BYTES):
            unit = content[begin : begin + STAMP_BYTES]
            if any(unit):
                if not _is_ours(unit, at + begin):
                    self.data_at = at + begin
                    return False
                self.has_own = True
        return True


def _is_ours(unit: bytes, place: int) -> bool:
    """Return True if Jovik wrote it: one stamp, or one in each sector that is not zero."""
    if is_stamp(unit, place):
        return True
    sectors = [unit[n : n + SECTOR] for n in range(0, len(unit), SECTOR)]
    return all(not any(s) or is_stamp(s, place + n * SECTOR) for n, s in enumerate(sectors))
