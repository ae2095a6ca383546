"""The stamp at the head of each block that Jovik writes, read without the compiled loops.

A raw device that was measured before is full of them. They are told from anybody else's data by
their own place and checksum (`jovik.engine.kernel.primitives.stamp` writes them; a test holds the
two against each other).
"""

from __future__ import annotations

import struct

STAMP_BYTES = 32
"""Four words: the block's place, its generation, the seed, and the masked place of its payload."""
LARGEST_POOL_BYTES = 2**40
SECTOR = 512
_MASK = 2**64 - 1
_MIX, _MULTIPLIER = 0x9E3779B97F4A7C15, 2685821657736338717


def mix(place: int, generation: int, seed: int) -> int:
    """Return the checksum of a stamp's first three words, below 2**63."""
    h = (place * _MIX & _MASK) ^ generation
    h = ((h ^ (h >> 29)) * _MULTIPLIER & _MASK) ^ seed
    h = (h ^ (h >> 31)) * _MIX & _MASK
    return h >> 1


def is_stamp(head: bytes, place: int) -> bool:
    """Return True if a block that lies at `place` begins with a stamp that Jovik put there.

    One in some 2**32 blocks of random data whose first word is their own place would pass.
    """
    if len(head) < STAMP_BYTES:
        return False
    stamped_at, generation, seed, masked = struct.unpack_from("<4Q", head)
    # Zeros at the start of a device would pass for a stamp of nothing.
    if stamped_at != place or seed >= 2**63 or generation >= 2**31 or not (seed or generation):
        return False
    source = masked ^ mix(place, generation, seed)
    return bool(source < LARGEST_POOL_BYTES and source % SECTOR == 0)
