"""The replaying loop over blocking calls, compiled: one native thread for each lane of requests.

Requests that were in flight together lie in different lanes, so that a lane has one at a time. A
lane issues a request when all lanes together have completed as many as had been before it in the
recording, and its think time is over. Needs nothing but pread, pwrite and fdatasync.
"""

from __future__ import annotations

import numpy as np
from numba import types

from jovik.base.trace import SLICE_NS
from jovik.engine.kernel import layout
from jovik.engine.kernel.primitives import (
    LOOK_NS,
    MONOTONIC,
    THREAD_CPU,
    address_of,
    count,
    last_errno,
    libc_fdatasync,
    libc_pread,
    libc_pwrite,
    load_acquire_i64,
    note_fault,
    now,
    sleep_ns,
    stamp,
    store_release_i64,
)
from jovik.engine.kernel.replay_loop import (
    AT_ITS_PACE,
    DURABLE_FLAG,
    FLAGS_SHIFT,
    FLUSH,
    KIND_MASK,
    LATE_NS,
    READ,
    WRITE,
)

SPIN_NS = 60_000
"""Maximum wait that is spun through. There may be more lanes than processors."""
NAP_NS = 1_000
"""A lane that waits for another sleeps as short as the system lets it."""

_words = types.CPointer(types.int64)
ARGUMENTS = (_words, _words, _words, _words, _words, _words, _words, _words, _words, _words)
"""Types of the arguments of `replay_lane`."""


def replay_lane(cfg, ctl, mine, requests, done, issued, slices, counts, out, scratch):
    """Replay the requests of one lane once.

    Parameters
    ----------
    cfg, ctl, out : int64
        Places as named in `jovik.engine.kernel.layout`.
    mine : int64, shape (cfg[QUOTA],)
        The requests of this lane, in the order of the recording.
    requests : int64, shape (n, REPLAY_COLUMNS)
        As for `replay_loop`.
    done, issued : int64, shape (n,)
        When each completed, by its rank in the recording, and was issued; 0 before. All lanes share
        them.
    slices, counts : int64
        The recorded values.
    scratch : int64
        Memory to work in.
    """
    n, rows, fd = cfg[layout.QUOTA], cfg[layout.ROWS], np.int32(cfg[layout.FD])
    pace, first, stride = (
        cfg[layout.REPLAY_PACE],
        cfg[layout.FIRST_BLOCK],
        cfg[layout.REPLAY_STRIDE],
    )
    source, target = (
        cfg[layout.POOL_ADDRESS] + cfg[layout.REPLAY_UNIT] * stride,
        cfg[layout.READ_ADDRESS],
    )
    done_at, issued_at = address_of(done), address_of(issued)
    ts = scratch
    cpu = now(THREAD_CPU, ts)
    t = now(MONOTONIC, ts)
    if ctl[layout.START_AT] > t:
        sleep_ns(ctl[layout.START_AT] - t, ts)
        t = now(MONOTONIC, ts)
    start = ctl[layout.START_AT]
    reached = start
    prefix = 0
    for k in range(n):
        i = mine[k]
        r = layout.REPLAY_COLUMNS * i
        previous = start
        if pace != AT_ITS_PACE:
            while prefix < requests[r + 4] and ctl[layout.STOP] < layout.FINISH:
                ended = load_acquire_i64(done_at + 8 * prefix)
                if ended > 0:
                    reached = max(reached, ended)
                    prefix += 1
                else:
                    sleep_ns(NAP_NS, ts)
            while i > 0 and ctl[layout.STOP] < layout.FINISH:
                began = load_acquire_i64(issued_at + 8 * (i - 1))
                if began > 0:
                    previous = began
                    break
                sleep_ns(NAP_NS, ts)
            due = max(previous, reached) + requests[r + 3]
        else:
            due = start + requests[r + 3]
        t = now(MONOTONIC, ts)
        while t < due and ctl[layout.STOP] < layout.FINISH:
            if due - t > SPIN_NS:
                sleep_ns(min(due - t - SPIN_NS, LOOK_NS), ts)
            t = now(MONOTONIC, ts)
        if ctl[layout.STOP] >= layout.FINISH:
            break
        if pace == AT_ITS_PACE and t - due > LATE_NS:
            out[layout.REPLAY_LATE] += 1
            out[layout.REPLAY_LATE_NS] += t - due
        kind, offset, size = requests[r] & KIND_MASK, requests[r + 1], requests[r + 2]
        if kind == WRITE and stride:
            place, generation = first + offset, cfg[layout.REPLAY_GENERATION]
            stamp(
                source,
                cfg[layout.POOL_ADDRESS],
                size,
                512,
                place,
                generation,
                cfg[layout.STAMP_SEED],
            )
        store_release_i64(issued_at + 8 * i, t)
        result = np.int64(0)
        if kind == READ:
            result = libc_pread(fd, target, size, first + offset)
        elif kind == WRITE:
            result = libc_pwrite(fd, source, size, first + offset)
            if (
                result == size
                and requests[r] >> FLAGS_SHIFT & DURABLE_FLAG
                and libc_fdatasync(fd) != 0
            ):
                result = -1
        elif kind == FLUSH:
            result = np.int64(libc_fdatasync(fd))
        else:
            sleep_ns(size, ts)
        errno = last_errno() if result < 0 else np.int64(0)
        before = t
        t = now(MONOTONIC, ts)
        row = min((t - start) // SLICE_NS, rows - 1)
        out[layout.REPLAY_DONE] += 1
        if kind <= WRITE and result == size:
            count(t - before, kind, size, row, slices, counts, out)
        elif kind > WRITE and result >= 0:
            out[layout.REPLAY_ASIDE] += 1
        else:
            direction = 1 if kind != READ else 0
            note_fault(errno, result, offset, direction, t - start, row, slices, out)
            if cfg[layout.STOP_ON_ERROR]:
                ctl[layout.STOP] = layout.FINISH
        store_release_i64(done_at + 8 * requests[r + 5], t)
    out[layout.BEGAN_NS] = start
    out[layout.ENDED_NS] = t
    out[layout.CPU_NS] = now(THREAD_CPU, ts) - cpu
