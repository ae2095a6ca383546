"""A whole block device as the place of a session.

Read as it is, or written where that was allowed.
"""

from __future__ import annotations

import errno
import fcntl
import hashlib
import mmap
import os
import struct
from dataclasses import replace
from pathlib import Path

from jovik.base.errors import TargetError
from jovik.base.io_session import PurgeResult
from jovik.base.quantities import show_size
from jovik.hardware.purge import purge_device

DISCARD = 0x1277
"""BLKDISCARD of <linux/fs.h>."""
PLACES, LOOK_BYTES = 256, 4096
"""How many places are looked at around a purge, and how much of each."""


class RawDevice:
    """An open block device, as a `jovik.engine.storage.Storage`.

    Parameters
    ----------
    node : Path
    claimed : (int, int), optional
        Descriptors of a device that was claimed for writing
        (`jovik.hardware.safety.claim_for_writing`): one to write through, one that keeps others
        away. Both are closed with this; without them the device is opened for reading.
    imagined : bool
        Only the cost of writing is estimated: it counts as writable, and any write would fail.

    Raises
    ------
    TargetError
        It cannot be opened.
    """

    def __init__(
        self,
        node: Path,
        *,
        capacity_bytes: int,
        logical_block_bytes: int,
        claimed: tuple[int, int] | None = None,
        imagined: bool = False,
    ) -> None:
        self.folder = node
        self.writable = claimed is not None or imagined
        self._held_fd = -1
        self.capacity_bytes = capacity_bytes
        self.block_bytes = logical_block_bytes
        self.direct = hasattr(os, "O_DIRECT")
        if claimed is not None:
            self.fd, self._held_fd = claimed
            return
        try:
            self.fd = os.open(node, os.O_RDONLY | os.O_CLOEXEC | getattr(os, "O_DIRECT", 0))
        except OSError as error:
            rights = f"it needs rights: sudo jovik measure {node} ..."
            raise TargetError(
                f"{node} cannot be opened: {error.strerror}",
                rights if error.errno == errno.EACCES else "",
            ) from None

    def check_space(self, span_bytes: int) -> None:
        """Refuse a span beyond the end."""
        if span_bytes > self.capacity_bytes:
            raise TargetError(
                f"{self.folder} holds {show_size(self.capacity_bytes)}; this needs "
                f"{show_size(span_bytes)}",
                "add 'within SPAN' to the phrase",
            )

    def fill_percent(self) -> float | None:
        """Nobody can tell."""
        return None

    def free_bytes(self) -> int:
        """Return its whole size if it may be written."""
        return self.capacity_bytes if self.writable else 0

    def to_fill_bytes(self, percent: int) -> int:
        """Return the bytes of this fraction of it."""
        return self.capacity_bytes * percent // 100

    def squeezed(self) -> str:
        """Nobody can take any of it."""
        return ""

    def has_space(self) -> bool:
        """Return True, because a device has all of its space."""
        return True

    def capacity_bytes_addressed(self) -> int | None:
        """Return all of it."""
        return self.capacity_bytes

    def reserve(self, size_bytes: int) -> None:
        """All of its space is there."""
        self.check_space(size_bytes)

    def empty(self) -> None:
        """Tell the drive that all its content may be discarded, if it supports that.

        So that a fresh write meets it fresh.
        """
        self.discard()

    def discard(self) -> str:
        """Discard the whole drive. Return the reason if that failed, or an empty string."""
        if not self.writable:
            return "there was nothing to discard"
        try:
            fcntl.ioctl(self.fd, DISCARD, struct.pack("QQ", 0, self.capacity_bytes))
        except OSError as error:
            if error.errno not in (errno.EOPNOTSUPP, errno.EINVAL, errno.EIO):
                raise
            return "the drive does not take discards"
        return ""

    def purge(self, note: str) -> PurgeResult:
        """By a command of the drive's own if it has one, else by discarding all of it."""
        before = self._held()
        done = purge_device(self.fd, self.capacity_bytes, self.discard)
        after = self._held()
        unchanged = [at for at, content in before.items() if after.get(at) == content]
        if not before:
            remark = "; it was blank before in all places checked"
        elif unchanged:
            remark = f"; {len(unchanged)} of {len(before)} places checked still have their content"
        else:
            remark = f"; {len(before)} places that held data are blank now"
        return replace(done, answer=done.answer + remark)

    def _held(self) -> dict[int, bytes]:
        """Return the content of some places that are not blank, spread over the device."""
        unit = max(self.block_bytes, LOOK_BYTES)
        step = max(self.capacity_bytes // PLACES // unit, 1) * unit
        holders = {}
        # Direct I/O wants memory that begins at a page.
        with mmap.mmap(-1, unit) as page:
            for at in range(0, self.capacity_bytes - unit + 1, step):
                if os.preadv(self.fd, [page], at) == unit and any(page[:]):
                    holders[at] = hashlib.blake2b(page[:], digest_size=16).digest()
        return holders

    def sync(self) -> None:
        """Flush the drive's own cache."""
        os.fdatasync(self.fd)

    def close(self) -> None:
        """Close it. Written data stays."""
        for fd in (self.fd, self._held_fd):
            if fd >= 0:
                os.close(fd)
        self.fd = self._held_fd = -1
