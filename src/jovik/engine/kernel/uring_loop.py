"""The measuring loop over an io_uring, compiled: submit, wait, count, again, with no Python in it.

The rings are seen as arrays of 64-bit words (`io_uring_enter(2)`, `<linux/io_uring.h>`). A timer in
the ring itself wakes the loop now and then, so that a drive that no longer answers cannot hold it
and no I/O pays for that.
"""

from __future__ import annotations

import numpy as np
from numba import njit, types

from jovik.base.trace import SLICE_NS
from jovik.engine.kernel.layout import (
    ABANDON,
    ALL_SLOTS,
    BEGAN_NS,
    BLOCK,
    BLOCKS,
    CPU_NS,
    CQ_HEAD,
    CQ_MASK,
    CQ_TAIL,
    DEPTH,
    DURABLE,
    ENDED_NS,
    FD,
    FINISH,
    FIRST_BLOCK,
    FIRST_SLOT,
    FIXED_BUFFERS,
    FIXED_FILE,
    FIXED_GENERATION,
    LAST_WRITE_END,
    LAST_WRITE_NS,
    LATE_WRITTEN,
    LEFT_IN_FLIGHT,
    NO_OP,
    PACE_PS,
    PATIENCE_SPEC,
    POOL_ADDRESS,
    POOL_BYTES,
    POOL_ROUNDS,
    QUOTA,
    RANDOM,
    READ_ADDRESS,
    READ_GENERATION,
    READ_SHARE,
    RING_FD,
    ROWS,
    SEED,
    SLOTS,
    SQ_MASK,
    SQ_TAIL,
    STAMP_SEED,
    START_AT,
    STOP,
    STOP_ON_ERROR,
    TIME_NS,
    TIMER_SPEC,
    UNIT,
    VERIFY,
    WAIT_ARGUMENT,
)
from jovik.engine.kernel.primitives import (
    LOOK_NS,
    MONOTONIC,
    PACE_SLACK_NS,
    THREAD_CPU,
    address_of,
    check,
    choose_io,
    count,
    last_errno,
    libc_syscall,
    load_acquire_u32,
    note_fault,
    now,
    sleep_ns,
    stamp,
    store_release_u32,
)

ENTER = 426
GET_EVENTS = 1
EXT_ARG = 8
OP_NOP, OP_READ_FIXED, OP_WRITE_FIXED, OP_TIMEOUT, OP_READ, OP_WRITE = 0, 4, 5, 11, 22, 23
FIXED_FILE_FLAG = 1 << 8
RWF_DSYNC = 2 << 32
TIMER = -1
EINTR, EAGAIN, EBUSY, ETIME = 4, 11, 16, 62

_words = types.CPointer(types.int64)
ARGUMENTS = (
    _words,
    _words,
    _words,
    _words,
    _words,
    _words,
    _words,
    types.CPointer(types.int32),
    types.CPointer(types.uint8),
    _words,
)
"""Types of the arguments of `uring_loop`."""


@njit
def _put(sqes, index, opcode, fd, offset, address, length, user, buffer_index):
    at = 8 * index
    sqes[at] = opcode | (fd << 32)
    sqes[at + 1] = offset
    sqes[at + 2] = address
    sqes[at + 3] = length
    sqes[at + 4] = user
    sqes[at + 5] = buffer_index
    sqes[at + 6] = 0
    sqes[at + 7] = 0


def uring_loop(cfg, ctl, sqes, cqes, slices, counts, out, generations, busy, scratch):
    """One worker's pass on its own ring.

    Parameters
    ----------
    cfg, ctl, out : int64
        Places as named in `jovik.engine.kernel.layout`.
    sqes : int64, shape (entries, 8); cqes : int64, shape (entries, 2)
        The rings.
    slices : int64, shape (rows, 5); counts : int64, shape (2, buckets)
        What is recorded.
    generations : int32, shape (units,) or (1,); busy : uint8, shape (blocks,) or (1,)
        For verifying: the last write to each unit; blocks with a write in flight.
    scratch : int64, shape (SLOTS + SLOT_ARRAYS * depth,)
        Memory to work in.
    """
    depth, block, rows = cfg[DEPTH], cfg[BLOCK], cfg[ROWS]
    # A registered file is called by its place in the ring's table, which holds just this one.
    fd = np.int64(0) if cfg[FIXED_FILE] else cfg[FD]
    unit, seed = cfg[UNIT], cfg[STAMP_SEED]
    random, share, verify = cfg[RANDOM], cfg[READ_SHARE], cfg[VERIFY]
    first, blocks = cfg[FIRST_BLOCK], cfg[BLOCKS]
    ublocks = np.uint64(blocks)
    pace, rounds, all_slots, no_op = cfg[PACE_PS], cfg[POOL_ROUNDS], cfg[ALL_SLOTS], cfg[NO_OP]
    pool, pool_bytes = cfg[POOL_ADDRESS], cfg[POOL_BYTES]
    ring, sq_tail, sq_mask = cfg[RING_FD], cfg[SQ_TAIL], cfg[SQ_MASK]
    cq_head, cq_tail, cq_mask = cfg[CQ_HEAD], cfg[CQ_TAIL], cfg[CQ_MASK]
    fixed = cfg[FIXED_GENERATION]
    flags = FIXED_FILE_FLAG if cfg[FIXED_FILE] else 0
    read_op = (OP_READ_FIXED if cfg[FIXED_BUFFERS] else OP_READ) | flags
    write_op = (OP_WRITE_FIXED if cfg[FIXED_BUFFERS] else OP_WRITE) | flags
    write_flags = RWF_DSYNC if cfg[DURABLE] else 0

    ts = scratch
    base = address_of(scratch)
    timer_address, wait_address = base + 8 * TIMER_SPEC, base + 8 * WAIT_ARGUMENT
    scratch[TIMER_SPEC + 1] = LOOK_NS
    scratch[WAIT_ARGUMENT + 2] = base + 8 * PATIENCE_SPEC
    # Where in `scratch` each slot's numbers begin: when it was submitted, its place, its way, its
    # turns; free slots.
    at, place, way, turn, free = (
        SLOTS,
        SLOTS + depth,
        SLOTS + 2 * depth,
        SLOTS + 3 * depth,
        SLOTS + 4 * depth,
    )
    for slot in range(depth):
        scratch[free + slot] = slot
    nfree = depth

    x = np.uint64(cfg[SEED])
    left = cfg[QUOTA]
    bounded = left >= 0
    sequence = np.int64(0)
    position = np.int64(0)
    in_flight = np.int64(0)
    unsent = np.int64(0)
    tail = load_acquire_u32(sq_tail)
    head = load_acquire_u32(cq_head)
    timer_set = False
    going = True

    cpu = now(THREAD_CPU, ts)
    t = now(MONOTONIC, ts)
    if ctl[START_AT] > t:
        sleep_ns(ctl[START_AT] - t, ts)
        t = now(MONOTONIC, ts)
    start = t
    deadline = start + cfg[TIME_NS]
    due_ps = np.int64(0)
    row = np.int64(0)
    row_end = start + SLICE_NS

    while True:
        while going and nfree > 0 and (left > 0 or not bounded):
            if pace:
                if due_ps > (t - start) * 1000:
                    break
                due_ps = max(due_ps, (t - start - PACE_SLACK_NS) * 1000) + pace
            slot = scratch[free + nfree - 1]
            x, direction, chosen = choose_io(x, share, random, ublocks)
            if not random:
                chosen = position
                position += 1
                if position == blocks:
                    position = 0
            elif verify and direction:
                # Two writes in flight to one block could land in either order; then no stamp could
                # be called stale.
                while busy[chosen]:
                    chosen = (chosen + 1) % blocks
                busy[chosen] = 1
            nfree -= 1
            left -= 1
            offset = (first + chosen) * block
            index = tail & sq_mask
            if no_op:
                _put(sqes, index, OP_NOP, 0, 0, 0, 0, slot, 0)
            elif direction:
                source = (
                    pool
                    + (cfg[FIRST_SLOT] + slot + all_slots * (scratch[turn + slot] % rounds)) * block
                )
                scratch[turn + slot] += 1
                sequence += 1
                generation = sequence if fixed < 0 else fixed
                stamp(source, pool, block, unit, offset, generation, seed)
                if verify:
                    for u in range(offset // unit, (offset + block) // unit):
                        generations[u] = generation
                _put(sqes, index, write_op, fd, offset, source, block | write_flags, slot, 1)
            else:
                _put(
                    sqes,
                    index,
                    read_op,
                    fd,
                    offset,
                    cfg[READ_ADDRESS] + slot * block,
                    block,
                    slot,
                    0,
                )
            scratch[place + slot] = offset
            scratch[way + slot] = direction
            scratch[at + slot] = t
            tail += 1
            unsent += 1
            in_flight += 1
        if in_flight == 0 and (not going or (bounded and left <= 0)):
            break
        if not timer_set:
            _put(sqes, tail & sq_mask, OP_TIMEOUT, 0, 0, timer_address, 1, TIMER, 0)
            tail += 1
            unsent += 1
            timer_set = True
        store_release_u32(sq_tail, tail)
        if pace and going and nfree > 0 and (left > 0 or not bounded):
            scratch[PATIENCE_SPEC + 1] = min(max(due_ps // 1000 - (t - start), 1000), LOOK_NS)
            done = libc_syscall(ENTER, ring, unsent, 1, GET_EVENTS | EXT_ARG, wait_address, 24)
        else:
            done = libc_syscall(ENTER, ring, unsent, 1, GET_EVENTS, 0, 0)
        t = now(MONOTONIC, ts)
        if done >= 0:
            unsent -= done
        else:
            errno = last_errno()
            if errno == ETIME:
                # With a time-out the kernel reports the wait, not the submission, which was whole.
                unsent = 0
            elif errno not in (EINTR, EAGAIN, EBUSY):
                note_fault(errno, 0, 0, 0, t - start, row, slices, out)
                break
        if t >= row_end:
            # A division, but only once a slice; counting up in a loop, LLVM would make one of 128
            # bits of it.
            row = min((t - start) // SLICE_NS, rows - 1)
            row_end = start + (row + 1) * SLICE_NS
        seen = load_acquire_u32(cq_tail)
        while head != seen:
            index = head & cq_mask
            slot = cqes[2 * index]
            result = np.int64(np.int32(cqes[2 * index + 1] & 0xFFFFFFFF))
            head += 1
            if head > 0xFFFFFFFF:
                head = 0
            if slot == TIMER:
                timer_set = False
                continue
            in_flight -= 1
            scratch[free + nfree] = slot
            nfree += 1
            direction = scratch[way + slot]
            if verify and direction and random:
                busy[scratch[place + slot] // block - first] = 0
            if result == block or no_op:
                if going:
                    count(t - scratch[at + slot], direction, block, row, slices, counts, out)
                elif direction:
                    out[LATE_WRITTEN] += block
                if direction:
                    out[LAST_WRITE_END] = scratch[place + slot] + block
                    out[LAST_WRITE_NS] = t
                if verify and not direction:
                    check(
                        cfg[READ_ADDRESS] + slot * block,
                        pool,
                        pool_bytes,
                        block,
                        unit,
                        scratch[place + slot],
                        cfg[READ_GENERATION],
                        generations,
                        seed,
                        out,
                    )
            else:
                note_fault(
                    -result if result < 0 else 0,
                    result,
                    scratch[place + slot],
                    direction,
                    t - start,
                    row,
                    slices,
                    out,
                )
                if cfg[STOP_ON_ERROR] and going:
                    going = False
                    out[ENDED_NS] = t
        store_release_u32(cq_head, head)
        if going and (t >= deadline or ctl[STOP] >= FINISH):
            going = False
            out[ENDED_NS] = t
        if ctl[STOP] == ABANDON:
            break
    if going:
        out[ENDED_NS] = t
    out[BEGAN_NS] = start
    out[LEFT_IN_FLIGHT] = in_flight
    out[CPU_NS] = now(THREAD_CPU, ts) - cpu
