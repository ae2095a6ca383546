"""Where things stand in the arrays that a compiled loop and the rest of the engine share.

No Numba here.
"""

from __future__ import annotations

from jovik.base.trace import MOST_PLACES

# What a loop is told: places in its `cfg`.
(
    FD,
    BLOCK,
    READ_SHARE,  # of 2^32
    RANDOM,
    FIRST_BLOCK,
    BLOCKS,
    TIME_NS,
    QUOTA,
    ROWS,
    DEPTH,
    PACE_PS,  # picoseconds between two I/Os; 0 is as fast as it goes
    DURABLE,
    STOP_ON_ERROR,
    VERIFY,
    READ_ADDRESS,
    POOL_ADDRESS,
    POOL_BYTES,
    POOL_ROUNDS,
    FIRST_SLOT,
    ALL_SLOTS,
    SEED,
    STAMP_SEED,
    UNIT,
    READ_GENERATION,
    FIXED_GENERATION,  # of every write, or negative to number them
    NO_OP,
    RING_FD,
    SQ_TAIL,
    SQ_MASK,
    CQ_HEAD,
    CQ_TAIL,
    CQ_MASK,
    FIXED_FILE,
    FIXED_BUFFERS,
    REPLAY_PACE,
    REPLAY_STRIDE,  # bytes between the payloads of two slots; 0 is one for all, and no stamps
    REPLAY_UNIT,  # which of them a lane has
    REPLAY_GENERATION,  # of every stamp
    CFG_COUNT,
) = range(39)

# What the session tells a loop while it runs: places in `ctl`.
STOP, START_AT, CTL_COUNT = range(3)
FINISH, ABANDON = 1, 2

# What a loop says at its end: places in `out`.
(
    MIN_READ,
    MIN_WRITE,
    MAX_READ,
    MAX_WRITE,
    SUM_READ,
    SUM_WRITE,
    CPU_NS,
    BEGAN_NS,
    ENDED_NS,
    LATE_WRITTEN,
    LEFT_IN_FLIGHT,
    FAULT_ERRNO,
    FAULT_OFFSET,
    FAULT_WRITE,
    FAULT_NS,
    FAULT_GOT,
    CHECKED,
    WRONG,
    STALE,
    FIRST_BAD,  # the first eight places
) = range(20)
BAD_PLACES = 8
(
    REPLAY_DONE,
    REPLAY_WAITED_NS,
    REPLAY_LATE,
    REPLAY_LATE_NS,
    REPLAY_ASIDE,  # flushes and discards
) = range(FIRST_BAD + BAD_PLACES, FIRST_BAD + BAD_PLACES + 5)
LAST_WRITE_END, LAST_WRITE_NS = REPLAY_ASIDE + 1, REPLAY_ASIDE + 2
"""End and time of the write that completed last, or 0 before the first."""
FAULT_PLACES = LAST_WRITE_NS + 1
"""The first distinct offsets at which I/Os failed, plus 1 for a write."""
OUT_COUNT = FAULT_PLACES + MOST_PLACES
REPLAY_COLUMNS = 6
"""Numbers of a request of a replay: kind and flags, offset, bytes, think or issue, after, rank."""
REPLAY_RANK = 5
NEVER = 2**62
"""A minimum that nothing was below yet."""

# What the threads of one worker share when each makes blocking calls, each on a cache line of its
# own.
POSITION, ISSUED, ERRORS, SHARED_COUNT = 0, 8, 16, 24

# Memory that a loop works in: a few fixed places, then for io_uring the arrays of its slots.
TIME_SPEC, TIMER_SPEC, PATIENCE_SPEC, WAIT_ARGUMENT, SLOTS = 0, 2, 4, 6, 10
SLOT_ARRAYS = 5
"""Arrays of one number for each slot.

When it was submitted, where, which way, its turns, and the stack of free ones.
"""

SLICE_WIDTH = 5
"""Columns of a row of slices."""
