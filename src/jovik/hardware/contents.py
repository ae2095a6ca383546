"""Whether anything lies on a raw device: known marks, and whatever else is not zeros."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

from jovik.base.stamp import is_stamp
from jovik.hardware import libblkid, signatures

EDGE_BYTES = 2**20
"""What is looked at in full at the start and at the end."""
SAMPLES, SAMPLE_BYTES = 64, 64 * 2**10
"""Evenly spaced samples between, the middle among them."""
UNIT = 4096
"""Stamps stand at the head of each 4 KiB, or of each sector where blocks were smaller."""
SECTOR = 512


@dataclass(frozen=True)
class Contents:
    """What was found on a device.

    Attributes
    ----------
    marks : tuple of str
        Known marks, in words such as "an XFS file system".
    data_at : int or None
        The first sampled byte of something unknown, neither zeros nor written by Jovik.
    note : str
        What could not be asked, empty where all could.
    """

    marks: tuple[str, ...] = ()
    data_at: int | None = None
    note: str = ""


def look_into(device: BinaryIO, size_bytes: int) -> Contents:
    """Look for marks and for anything that is not zeros.

    Parameters
    ----------
    device : binary file
        Open for reading with a descriptor of its own, buffered.
    size_bytes : int
        Its capacity.

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
    return Contents(tuple(marks), _first_data(device, size_bytes), note)


def places(size_bytes: int) -> Iterator[tuple[int, int]]:
    """Where to look, as (first byte, bytes): the start, samples between, the end; each aligned."""
    edge = min(EDGE_BYTES, size_bytes)
    yield 0, edge
    if size_bytes > 2 * EDGE_BYTES:
        for n in range(1, SAMPLES):
            at = size_bytes * n // SAMPLES // SAMPLE_BYTES * SAMPLE_BYTES
            yield at, min(SAMPLE_BYTES, size_bytes - at)
    last = max(size_bytes - edge, 0) // UNIT * UNIT
    yield last, size_bytes - last


def _first_data(device: BinaryIO, size_bytes: int) -> int | None:
    for at, count in places(size_bytes):
        device.seek(at)
        content = device.read(count)
        if content.count(0) == len(content):
            continue
        for begin in range(0, len(content), UNIT):
            unit = content[begin : begin + UNIT]
            if any(unit) and not _is_ours(unit, at + begin):
                return at + begin
    return None


def _is_ours(unit: bytes, place: int) -> bool:
    """Whether Jovik wrote it: one stamp for all of it, or one for each sector that is not zeros."""
    if is_stamp(unit, place):
        return True
    sectors = [unit[n : n + SECTOR] for n in range(0, len(unit), SECTOR)]
    return all(not any(s) or is_stamp(s, place + n * SECTOR) for n, s in enumerate(sectors))
