"""Where a session does its I/O: an unnamed file in a folder, or a whole device."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from jovik.base.io_session import PurgeResult


class Storage(Protocol):
    """The interface between a session and the place that it reads and writes.

    Attributes
    ----------
    fd : int
        Open for direct I/O where that is to be had.
    folder : Path
        The folder, or the device's node, for messages.
    direct : bool
        Whether the operating system's cache is out of the way.
    writable : bool
        Whether it may be written. Otherwise it is read as it is.
    block_bytes : int
        The smallest block it takes.
    """

    fd: int
    folder: Path
    direct: bool
    writable: bool
    block_bytes: int

    def check_space(self, span_bytes: int) -> None:
        """Refuse a span that does not fit (TargetError)."""

    def fill_percent(self) -> float | None:
        """Return how full the file system is, if there is one."""

    def free_bytes(self) -> int:
        """Return the bytes that may still be written, without reserved space.

        The test file's own bytes count as free.
        """

    def to_fill_bytes(self, percent: int) -> int:
        """Return the bytes that fill a file system this far, or raise TargetError if too many."""

    def squeezed(self) -> str:
        """Return why a pass must end (others took reserved space), or an empty string."""

    def has_space(self) -> bool:
        """Return True if a little more could be written now."""

    def capacity_bytes_addressed(self) -> int | None:
        """Return the size of a device, or None on a file system."""

    def reserve(self, size_bytes: int) -> None:
        """Make sure of so much space."""

    def empty(self) -> None:
        """Give all space back."""

    def discard(self) -> str:
        """Tell the drive which space is free. Return the reason if that failed."""

    def purge(self, note: str) -> PurgeResult:
        """Make it as new, after the taken space was discarded with this `note`."""

    def sync(self) -> None:
        """Bring everything onto the medium."""

    def close(self) -> None:
        """Let go of it."""
