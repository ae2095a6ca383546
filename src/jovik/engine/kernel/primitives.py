"""The common parts of the compiled loops.

Libc, ordered memory access, random offsets, stamps, counting.

Everything here runs without the interpreter lock and without Python objects. libc is reached
through `numba.types.ExternalFunction`, which leaves a name for the loader to find. Arrays come as
plain pointers, and memory to work in as one more of them, so that the machine code needs nothing of
Numba when it runs: `jovik.engine.kernel.library` links it into the wheel.
"""

from __future__ import annotations

import sys

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.extending import intrinsic

from jovik.base import histogram
from jovik.engine.kernel import layout

i64, i32 = types.int64, types.int32

libc_syscall = types.ExternalFunction("syscall", i64(i64, i64, i64, i64, i64, i64, i64))
libc_pread = types.ExternalFunction("pread", i64(i32, i64, i64, i64))
libc_pwrite = types.ExternalFunction("pwrite", i64(i32, i64, i64, i64))
libc_fdatasync = types.ExternalFunction(
    "fsync" if sys.platform == "darwin" else "fdatasync", i32(i32)
)
libc_clock = types.ExternalFunction("clock_gettime", i32(i32, i64))
libc_nanosleep = types.ExternalFunction("nanosleep", i32(i64, i64))
libc_memcmp = types.ExternalFunction("memcmp", i32(i64, i64, i64))
libc_errno = types.ExternalFunction(
    "__error" if sys.platform == "darwin" else "__errno_location", i64()
)

MONOTONIC = 6 if sys.platform == "darwin" else 1
THREAD_CPU = 16 if sys.platform == "darwin" else 3

PACE_SLACK_NS = 10_000_000
"""How far a paced pass may lag before the lag is forgiven instead of caught up.

No burst above this.
"""
LOOK_NS = 50_000_000
"""How often a loop that waits for the drive looks whether it should stop."""

_U1, _U12, _U25, _U27, _U32 = (np.uint64(n) for n in (1, 12, 25, 27, 32))
_MULTIPLIER = np.uint64(2685821657736338717)
_LOW32 = np.uint64(2**32 - 1)
_BIG = np.uint64(2**32)
_MIX = np.uint64(0x9E3779B97F4A7C15)
_U29, _U31 = np.uint64(29), np.uint64(31)
_PART_BITS = histogram.PART_BITS
_LAST_BUCKET = histogram.COUNT - 1


@intrinsic
def load_acquire_u32(typingctx, address):
    """Load 32 bits. Later accesses stay behind it."""

    def build(context, builder, signature, arguments):
        place = builder.inttoptr(arguments[0], ir.IntType(32).as_pointer())
        return builder.zext(builder.load_atomic(place, "acquire", 4), ir.IntType(64))

    return types.int64(types.int64), build


@intrinsic
def store_release_u32(typingctx, address, value):
    """Store 32 bits. Earlier accesses stay before it."""

    def build(context, builder, signature, arguments):
        place = builder.inttoptr(arguments[0], ir.IntType(32).as_pointer())
        builder.store_atomic(builder.trunc(arguments[1], ir.IntType(32)), place, "release", 4)
        return context.get_dummy_value()

    return types.void(types.int64, types.int64), build


@intrinsic
def load_acquire_i64(typingctx, address):
    """Load 64 bits. Later accesses stay behind it."""

    def build(context, builder, signature, arguments):
        place = builder.inttoptr(arguments[0], ir.IntType(64).as_pointer())
        return builder.load_atomic(place, "acquire", 8)

    return types.int64(types.int64), build


@intrinsic
def store_release_i64(typingctx, address, value):
    """Store 64 bits. Earlier accesses stay before it."""

    def build(context, builder, signature, arguments):
        place = builder.inttoptr(arguments[0], ir.IntType(64).as_pointer())
        builder.store_atomic(arguments[1], place, "release", 8)
        return context.get_dummy_value()

    return types.void(types.int64, types.int64), build


@intrinsic
def fetch_add_i64(typingctx, address, value):
    """Add to a 64-bit number that threads share, and return its previous value."""

    def build(context, builder, signature, arguments):
        place = builder.inttoptr(arguments[0], ir.IntType(64).as_pointer())
        return builder.atomic_rmw("add", place, arguments[1], "monotonic")

    return types.int64(types.int64, types.int64), build


@intrinsic
def load_i64(typingctx, address):
    """Return the 64-bit number at an address."""

    def build(context, builder, signature, arguments):
        return builder.load(builder.inttoptr(arguments[0], ir.IntType(64).as_pointer()))

    return types.int64(types.int64), build


@intrinsic
def store_i64(typingctx, address, value):
    """Put a 64-bit number at an address."""

    def build(context, builder, signature, arguments):
        builder.store(arguments[1], builder.inttoptr(arguments[0], ir.IntType(64).as_pointer()))
        return context.get_dummy_value()

    return types.void(types.int64, types.int64), build


@intrinsic
def load_i32(typingctx, address):
    """Return the signed 32-bit number at an address."""

    def build(context, builder, signature, arguments):
        value = builder.load(builder.inttoptr(arguments[0], ir.IntType(32).as_pointer()))
        return builder.sext(value, ir.IntType(64))

    return types.int64(types.int64), build


@intrinsic
def leading_zeros(typingctx, value):
    """Zero bits above the highest set bit of a 64-bit number that is not 0."""

    def build(context, builder, signature, arguments):
        return builder.ctlz(arguments[0], cgutils.true_bit)

    return types.int64(types.int64), build


@intrinsic
def address_of(typingctx, pointer):
    """Return the address that a pointer holds."""

    def build(context, builder, signature, arguments):
        return builder.ptrtoint(arguments[0], ir.IntType(64))

    return types.int64(pointer), build


@njit
def now(clock, ts):
    """Return the nanoseconds of a clock. `ts` points to two numbers to write in."""
    libc_clock(clock, address_of(ts))
    return ts[0] * 1_000_000_000 + ts[1]


@njit
def last_errno():
    """Return this thread's errno."""
    return load_i32(libc_errno())


@njit
def sleep_ns(duration, ts):
    """Sleep, or less if a signal comes."""
    ts[0] = duration // 1_000_000_000
    ts[1] = duration % 1_000_000_000
    libc_nanosleep(address_of(ts), 0)


@njit
def next_random(x):
    """Return the next state of xorshift64* (Vigna, ACM Trans. Math. Software 42, 2016)."""
    x ^= x >> _U12
    x ^= x << _U25
    x ^= x >> _U27
    return x


@njit
def random_block(x, blocks):
    """Return a block number below `blocks` from a generator state.

    Multiply-shift, so no division below 2^32 blocks.
    """
    scrambled = x * _MULTIPLIER
    if blocks < _BIG:
        return np.int64(((scrambled >> _U32) * blocks) >> _U32)
    return np.int64(scrambled % blocks)


@njit
def random_share(x):
    """32 random bits that `random_block` does not depend on much: the low half."""
    return np.int64((x * _MULTIPLIER) & _LOW32)


@njit
def choose_io(x, share, random, blocks):
    """Return the next I/O: new generator state, direction (1 writes), and a random block.

    The block means nothing if `random` is 0; a sequential loop counts on by itself. `share` is
    the share of reads in 2^32nds.
    """
    direction = np.int64(0)
    if share == 0:
        direction = 1
    elif share < 2**32:
        x = next_random(x)
        if random_share(x) >= share:
            direction = 1
    chosen = np.int64(0)
    if random:
        x = next_random(x)
        chosen = random_block(x, blocks)
    return x, direction, chosen


@njit
def bucket(latency):
    """Return the histogram bucket, as `jovik.base.histogram.bucket_of` does."""
    if latency < (2 << _PART_BITS):
        return max(latency, 0)
    octave = 63 - leading_zeros(latency) - _PART_BITS
    return min((octave << _PART_BITS) + (latency >> octave), _LAST_BUCKET)


@njit
def count(latency, direction, size, row, slices, counts, out):
    """Count one completed I/O. `direction` is 0 for a read, 1 for a write."""
    counts[direction * histogram.COUNT + bucket(latency)] += 1
    slices[row * layout.SLICE_WIDTH + 2 * direction] += size
    slices[row * layout.SLICE_WIDTH + 2 * direction + 1] += 1
    out[layout.SUM_READ + direction] += latency
    out[layout.MIN_READ + direction] = min(out[layout.MIN_READ + direction], latency)
    out[layout.MAX_READ + direction] = max(out[layout.MAX_READ + direction], latency)


@njit
def note_fault(errno, got, offset, direction, after, row, slices, out):
    """Count an I/O that failed or came back short, and keep the first."""
    slices[row * layout.SLICE_WIDTH + 4] += 1
    if out[layout.FAULT_NS] == 0:
        out[layout.FAULT_ERRNO] = errno
        out[layout.FAULT_GOT] = got
        out[layout.FAULT_OFFSET] = offset
        out[layout.FAULT_WRITE] = direction
        out[layout.FAULT_NS] = max(after, 1)


@njit
def note_place(offset, direction, out):
    """Keep the place of an I/O that failed, once."""
    place = offset + direction
    for i in range(layout.MOST_PLACES):
        if out[layout.FAULT_PLACES + i] == place:
            return
        if out[layout.FAULT_PLACES + i] < 0:
            out[layout.FAULT_PLACES + i] = place
            return


@njit
def mix(offset, generation, seed):
    """Return a checksum of a stamp's other words (a 64-bit multiplicative hash's final steps)."""
    h = np.uint64(offset) * _MIX ^ np.uint64(generation)
    h = (h ^ (h >> _U29)) * _MULTIPLIER ^ np.uint64(seed)
    h = (h ^ (h >> _U31)) * _MIX
    return np.int64(h >> _U1)


@njit
def stamp(address, pool_address, size, unit, offset, generation, seed):
    """Write a stamp at the head of each unit.

    Its place, its generation, the seed, and where its body came from.
    """
    at = 0
    while at < size:
        store_i64(address + at, offset + at)
        store_i64(address + at + 8, generation)
        store_i64(address + at + 16, seed)
        store_i64(
            address + at + 24, mix(offset + at, generation, seed) ^ (address + at - pool_address)
        )
        at += unit


@njit
def note_bad(place, out):
    """Keep the first places that came back wrong."""
    for i in range(layout.BAD_PLACES):
        if out[layout.FIRST_BAD + i] < 0:
            out[layout.FIRST_BAD + i] = place
            return


@njit
def check(address, pool_address, pool_bytes, size, unit, offset, expected, generations, seed, out):
    """Check each unit of a block that was read: 0 as written, counted as wrong or stale otherwise.

    `expected` is the generation that every unit should have, or negative to look it up in
    `generations`.
    """
    bad = 0
    at = 0
    while at < size:
        place = offset + at
        wanted = expected if expected >= 0 else np.int64(generations[place // unit])
        generation = load_i64(address + at + 8)
        source = load_i64(address + at + 24) ^ mix(place, generation, seed)
        out[layout.CHECKED] += 1
        whole = load_i64(address + at) == place and load_i64(address + at + 16) == seed
        whole = whole and 0 <= source <= pool_bytes - unit and source % unit == 0
        whole = whole and libc_memcmp(address + at + 32, pool_address + source + 32, unit - 32) == 0
        if not whole:
            out[layout.WRONG] += 1
        elif generation != wanted:
            out[layout.STALE] += 1
        if not whole or generation != wanted:
            note_bad(place, out)
            bad += 1
        at += unit
    return bad
