"""The measuring loop over blocking calls, compiled: one native thread for each I/O in flight.

It needs nothing but pread, pwrite and fdatasync, so it runs on any POSIX system and wherever
io_uring is refused.
"""

from __future__ import annotations

import numpy as np
from numba import types

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
    fetch_add_i64,
    last_errno,
    libc_fdatasync,
    libc_pread,
    libc_pwrite,
    note_fault,
    note_place,
    now,
    sleep_ns,
    stamp,
)

EINTR = 4
_words = types.CPointer(types.int64)
ARGUMENTS = (_words, _words, _words, _words, _words, _words, types.CPointer(types.int32), _words)
"""Types of the arguments of `blocking_loop`."""


def blocking_loop(cfg, ctl, shared, slices, counts, out, generations, scratch):
    """One thread's pass.

    Make one I/O at a time until the time is over, the amount is done or a stop is requested.

    Parameters are as for `uring_loop`; `shared` (int64, shape (24,)) is common to the threads of a
    worker: the next sequential block, the I/Os issued, and errors, each on a cache line of its own.
    """
    block, rows, fd = cfg[layout.BLOCK], cfg[layout.ROWS], np.int32(cfg[layout.FD])
    unit, seed, verify = cfg[layout.UNIT], cfg[layout.STAMP_SEED], cfg[layout.VERIFY]
    random, share, durable = cfg[layout.RANDOM], cfg[layout.READ_SHARE], cfg[layout.DURABLE]
    first, blocks, quota, pace = (
        cfg[layout.FIRST_BLOCK],
        cfg[layout.BLOCKS],
        cfg[layout.QUOTA],
        cfg[layout.PACE_PS],
    )
    ublocks = np.uint64(blocks)
    pool, rounds, all_slots = (
        cfg[layout.POOL_ADDRESS],
        cfg[layout.POOL_ROUNDS],
        cfg[layout.ALL_SLOTS],
    )
    pool_bytes = cfg[layout.POOL_BYTES]
    target, fixed = cfg[layout.READ_ADDRESS], cfg[layout.FIXED_GENERATION]
    position_at = address_of(shared) + 8 * layout.POSITION
    issued_at = address_of(shared) + 8 * layout.ISSUED
    ts = scratch
    x = np.uint64(cfg[layout.SEED])
    sequence = np.int64(0)
    due_ps = np.int64(0)

    cpu = now(THREAD_CPU, ts)
    t = now(MONOTONIC, ts)
    if ctl[layout.START_AT] > t:
        sleep_ns(ctl[layout.START_AT] - t, ts)
        t = now(MONOTONIC, ts)
    start = t
    deadline = start + cfg[layout.TIME_NS]
    row, row_end = np.int64(0), start + SLICE_NS
    while (
        t < deadline
        and ctl[layout.STOP] < layout.FINISH
        and not (cfg[layout.STOP_ON_ERROR] and shared[layout.ERRORS])
    ):
        if pace:
            ahead = due_ps // 1000 - (t - start)
            if ahead > 0:
                sleep_ns(min(ahead, LOOK_NS), ts)
                t = now(MONOTONIC, ts)
                continue
            due_ps = max(due_ps, (t - start - PACE_SLACK_NS) * 1000) + pace
        if quota >= 0 and fetch_add_i64(issued_at, 1) >= quota:
            break
        x, direction, chosen = choose_io(x, share, random, ublocks)
        if not random:
            chosen = fetch_add_i64(position_at, 1) % blocks
        offset = (first + chosen) * block
        if direction:
            source = pool + (cfg[layout.FIRST_SLOT] + all_slots * (sequence % rounds)) * block
            sequence += 1
            generation = sequence if fixed < 0 else fixed
            stamp(source, pool, block, unit, offset, generation, seed)
            if verify:
                for u in range(offset // unit, (offset + block) // unit):
                    generations[u] = generation
            done = libc_pwrite(fd, source, block, offset)
            if durable and done == block and libc_fdatasync(fd) != 0:
                done = -1
        else:
            done = libc_pread(fd, target, block, offset)
        errno = last_errno() if done < 0 else np.int64(0)
        before = t
        t = now(MONOTONIC, ts)
        if t >= row_end:
            # A division, but only once a slice; counting up in a loop, LLVM would make one of 128
            # bits of it.
            row = min((t - start) // SLICE_NS, rows - 1)
            row_end = start + (row + 1) * SLICE_NS
        if done == block:
            count(t - before, direction, block, row, slices, counts, out)
            if direction:
                out[layout.LAST_WRITE_END] = offset + block
                out[layout.LAST_WRITE_NS] = t
            if verify and not direction:
                check(
                    target,
                    pool,
                    pool_bytes,
                    block,
                    unit,
                    offset,
                    cfg[layout.READ_GENERATION],
                    generations,
                    seed,
                    out,
                )
        elif errno != EINTR:
            note_fault(errno, done, offset, direction, t - start, row, slices, out)
            note_place(offset, direction, out)
            shared[layout.ERRORS] = 1
    out[layout.BEGAN_NS] = start
    out[layout.ENDED_NS] = t
    out[layout.CPU_NS] = now(THREAD_CPU, ts) - cpu
