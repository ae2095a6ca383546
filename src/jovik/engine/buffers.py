"""The memory that I/O goes to and comes from.

Page-aligned, touched beforehand, and payload that cannot be squeezed.
"""

from __future__ import annotations

import mmap

import numpy as np
import numpy.typing as npt

from jovik.base.errors import TargetError

POOL_BYTES = 4 * 2**20
"""Minimum payload, so that a controller sees no repetition within its window."""
STAMP_BYTES = 32
"""Head of each unit that the stamp takes."""
FULL_UNIT, SMALL_UNIT = 4096, 512


def area(size_bytes: int) -> npt.NDArray[np.uint8]:
    """Return page-aligned memory of this size. The mapping lives as long as the array."""
    return np.frombuffer(
        mmap.mmap(-1, max(size_bytes, mmap.PAGESIZE), flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS),
        dtype=np.uint8,
    )[:size_bytes]


def unit_of(block_bytes: int) -> int:
    """Return the bytes that one stamp covers: 4 KiB, or a sector for smaller blocks."""
    return FULL_UNIT if block_bytes % FULL_UNIT == 0 else SMALL_UNIT


def payload(size_bytes: int, seed: int, compressible_percent: int) -> npt.NDArray[np.uint8]:
    """Random bytes, of which a share at the end of each 4 KiB is zeros."""
    pool = area(size_bytes)
    pool[:] = np.random.Generator(np.random.SFC64(seed)).integers(
        0, 256, size=size_bytes, dtype=np.uint8
    )
    if compressible_percent:
        zeros = FULL_UNIT * compressible_percent // 100
        whole = size_bytes // FULL_UNIT * FULL_UNIT
        pool[:whole].reshape(-1, FULL_UNIT)[:, FULL_UNIT - zeros :] = 0
    return pool


class Buffers:
    """Read and write memory of a session, grown when a pass needs more and kept for the next.

    `reads` has a block for each slot; `pool` has `rounds` blocks for each slot.
    """

    def __init__(self, seed: int) -> None:
        self.seed = seed
        self.reads = area(mmap.PAGESIZE)
        self.pool = area(mmap.PAGESIZE)
        self.rounds = 0
        self._made: tuple[int, int] = (0, 0)

    def fit(self, slots: int, block_bytes: int, compressible_percent: int) -> None:
        """Make them large enough for so many blocks in flight."""
        needed = slots * block_bytes
        if self.reads.nbytes < needed:
            self.reads = area(needed)
            self.reads[:: mmap.PAGESIZE] = 0
        self.rounds = max(1, -(-POOL_BYTES // needed))
        size = self.rounds * needed
        if self._made[0] < size or self._made[1] != compressible_percent:
            # Body bytes depend on the place in the pool alone, so a larger pool of the same seed
            # begins with the smaller.
            self.pool = payload(size, self.seed, compressible_percent)
            self._made = (size, compressible_percent)


def check_memory(slots: int, block_bytes: int) -> None:
    """Refuse blocks in flight that this machine cannot hold.

    Raises
    ------
    TargetError
        With the limit.
    """
    import psutil

    limit = psutil.virtual_memory().available // 4
    if slots * block_bytes * 2 > limit:
        raise TargetError(
            f"{slots} blocks of {block_bytes} bytes in flight need "
            f"{slots * block_bytes * 2 / 2**30:.1f} GiB of memory",
            f"Jovik uses at most a quarter of the free memory, {limit / 2**30:.1f} GiB: lower the "
            "depth, the workers or the block",
        )
