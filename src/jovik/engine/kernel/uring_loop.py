"""The measuring loop over an io_uring, compiled: submit, wait, count, again, with no Python in it.

The rings are seen as arrays of 64-bit words (`io_uring_enter(2)`, `<linux/io_uring.h>`). A timer in
the ring itself wakes the loop now and then, so that a drive that no longer answers cannot hold it
and no I/O pays for that.
"""

from __future__ import annotations

import numpy as np
from numba import njit, types

from jovik.base.trace import SLICE_NS
from jovik.engine.kernel import layout
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
    note_place,
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
        The recorded values.
    generations : int32, shape (units,) or (1,); busy : uint8, shape (blocks,) or (1,)
        For verifying: the last write to each unit; blocks with a write in flight.
    scratch : int64, shape (SLOTS + SLOT_ARRAYS * depth,)
        Memory to work in.
    """
    depth, block, rows = cfg[layout.DEPTH], cfg[layout.BLOCK], cfg[layout.ROWS]
    # A registered file is called by its place in the ring's table, which holds just this one.
    fd = np.int64(0) if cfg[layout.FIXED_FILE] else cfg[layout.FD]
    unit, seed = cfg[layout.UNIT], cfg[layout.STAMP_SEED]
    random, share, verify = cfg[layout.RANDOM], cfg[layout.READ_SHARE], cfg[layout.VERIFY]
    first, blocks = cfg[layout.FIRST_BLOCK], cfg[layout.BLOCKS]
    ublocks = np.uint64(blocks)
    pace, rounds, all_slots, no_op = (
        cfg[layout.PACE_PS],
        cfg[layout.POOL_ROUNDS],
        cfg[layout.ALL_SLOTS],
        cfg[layout.NO_OP],
    )
    pool, pool_bytes = cfg[layout.POOL_ADDRESS], cfg[layout.POOL_BYTES]
    ring, sq_tail, sq_mask = cfg[layout.RING_FD], cfg[layout.SQ_TAIL], cfg[layout.SQ_MASK]
    cq_head, cq_tail, cq_mask = cfg[layout.CQ_HEAD], cfg[layout.CQ_TAIL], cfg[layout.CQ_MASK]
    fixed = cfg[layout.FIXED_GENERATION]
    flags = FIXED_FILE_FLAG if cfg[layout.FIXED_FILE] else 0
    read_op = (OP_READ_FIXED if cfg[layout.FIXED_BUFFERS] else OP_READ) | flags
    write_op = (OP_WRITE_FIXED if cfg[layout.FIXED_BUFFERS] else OP_WRITE) | flags
    write_flags = RWF_DSYNC if cfg[layout.DURABLE] else 0

    ts = scratch
    base = address_of(scratch)
    timer_address, wait_address = base + 8 * layout.TIMER_SPEC, base + 8 * layout.WAIT_ARGUMENT
    scratch[layout.TIMER_SPEC + 1] = LOOK_NS
    scratch[layout.WAIT_ARGUMENT + 2] = base + 8 * layout.PATIENCE_SPEC
    # Where in `scratch` each slot's numbers begin: when it was submitted, its place, its way, its
    # turns; free slots.
    at, place, way, turn, free = (
        layout.SLOTS,
        layout.SLOTS + depth,
        layout.SLOTS + 2 * depth,
        layout.SLOTS + 3 * depth,
        layout.SLOTS + 4 * depth,
    )
    for slot in range(depth):
        scratch[free + slot] = slot
    nfree = depth

    x = np.uint64(cfg[layout.SEED])
    left = cfg[layout.QUOTA]
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
    if ctl[layout.START_AT] > t:
        sleep_ns(ctl[layout.START_AT] - t, ts)
        t = now(MONOTONIC, ts)
    start = t
    deadline = start + cfg[layout.TIME_NS]
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
                    + (cfg[layout.FIRST_SLOT] + slot + all_slots * (scratch[turn + slot] % rounds))
                    * block
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
                    cfg[layout.READ_ADDRESS] + slot * block,
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
            scratch[layout.PATIENCE_SPEC + 1] = min(
                max(due_ps // 1000 - (t - start), 1000), LOOK_NS
            )
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
                    out[layout.LATE_WRITTEN] += block
                if direction:
                    out[layout.LAST_WRITE_END] = scratch[place + slot] + block
                    out[layout.LAST_WRITE_NS] = t
                if verify and not direction:
                    check(
                        cfg[layout.READ_ADDRESS] + slot * block,
                        pool,
                        pool_bytes,
                        block,
                        unit,
                        scratch[place + slot],
                        cfg[layout.READ_GENERATION],
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
                note_place(scratch[place + slot], direction, out)
                if cfg[layout.STOP_ON_ERROR] and going:
                    going = False
                    out[layout.ENDED_NS] = t
        store_release_u32(cq_head, head)
        if going and (t >= deadline or ctl[layout.STOP] >= layout.FINISH):
            going = False
            out[layout.ENDED_NS] = t
        if ctl[layout.STOP] == layout.ABANDON:
            break
    if going:
        out[layout.ENDED_NS] = t
    out[layout.BEGAN_NS] = start
    out[layout.LEFT_IN_FLIGHT] = in_flight
    out[layout.CPU_NS] = now(THREAD_CPU, ts) - cpu
