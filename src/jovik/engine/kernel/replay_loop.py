"""The replaying loop over an io_uring, compiled: each request once it could have been asked for.

One thread issues in the order of the recording. A request is due when as many of those that had
completed before it in the recording have completed now, and its think time is over.
"""

from __future__ import annotations

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
    libc_syscall,
    load_acquire_u32,
    note_fault,
    now,
    sleep_ns,
    stamp,
    store_release_u32,
)
from jovik.engine.kernel.uring_loop import (
    EAGAIN,
    EBUSY,
    EINTR,
    ENTER,
    ETIME,
    EXT_ARG,
    GET_EVENTS,
    OP_READ,
    OP_TIMEOUT,
    OP_WRITE,
    RWF_DSYNC,
    TIMER,
    _put,
)

OP_FSYNC = 3
DATA_ONLY = 1 << 32
"""IORING_FSYNC_DATASYNC, where the flags of a request lie."""
READ, WRITE, FLUSH, DISCARD = 0, 1, 2, 3
SECOND_NS = 1_000_000_000
DURABLE_FLAG = 4
KIND_MASK, FLAGS_SHIFT = 255, 8
"""Where kind and flags of a request are in its first number."""
SPIN_NS = 150_000
"""A wait so short is spun through: a timer would come later than that."""
LATE_NS = 1_000_000
"""A request that comes so much after its time is late."""
AT_ITS_PACE = 1

_words = types.CPointer(types.int64)
ARGUMENTS = (_words, _words, _words, _words, _words, _words, _words, _words, _words, _words)
"""Types of the arguments of `replay_loop`."""


def replay_loop(cfg, ctl, sqes, cqes, requests, done, slices, counts, out, scratch):
    """Replay a recording once.

    Parameters
    ----------
    cfg, ctl, out : int64
        Places as named in `jovik.engine.kernel.layout`.
    sqes, cqes : int64
        The rings.
    requests : int64, shape (n, REPLAY_COLUMNS)
        Kind and flags, offset, bytes (of a discard its duration), think time (or issue time where
        that is the pace), after and rank of each.
    done : int64, shape (n,)
        When each completed, by its rank in the recording; 0 before.
    slices, counts : int64
        The recorded values.
    scratch : int64
        Memory to work in.
    """
    n, depth, rows, fd = cfg[layout.QUOTA], cfg[layout.DEPTH], cfg[layout.ROWS], cfg[layout.FD]
    pace, first, stride = (
        cfg[layout.REPLAY_PACE],
        cfg[layout.FIRST_BLOCK],
        cfg[layout.REPLAY_STRIDE],
    )
    ring, sq_tail, sq_mask = cfg[layout.RING_FD], cfg[layout.SQ_TAIL], cfg[layout.SQ_MASK]
    cq_head, cq_tail, cq_mask = cfg[layout.CQ_HEAD], cfg[layout.CQ_TAIL], cfg[layout.CQ_MASK]
    ts = scratch
    base = address_of(scratch)
    timer_address, wait_address = base + 8 * layout.TIMER_SPEC, base + 8 * layout.WAIT_ARGUMENT
    scratch[layout.TIMER_SPEC + 1] = LOOK_NS
    scratch[layout.WAIT_ARGUMENT + 2] = base + 8 * layout.PATIENCE_SPEC
    # When each slot was submitted, which request it has, the free ones, and two numbers each.
    at, which, free = layout.SLOTS, layout.SLOTS + depth, layout.SLOTS + 2 * depth
    spans = layout.SLOTS + 3 * depth
    for slot in range(depth):
        scratch[free + slot] = slot
    nfree = depth
    i = 0
    prefix = 0
    in_flight = 0
    unsent = 0
    tail = load_acquire_u32(sq_tail)
    head = load_acquire_u32(cq_head)
    timer_set = False
    going = True
    cpu = now(THREAD_CPU, ts)
    t = now(MONOTONIC, ts)
    start = t
    previous = start
    reached = start
    busy_since = 0
    row = 0
    while True:
        due = -1
        while going and i < n and nfree > 0:
            r = layout.REPLAY_COLUMNS * i
            if pace == AT_ITS_PACE:
                due = start + requests[r + 3]
            else:
                while prefix < requests[r + 4] and done[prefix] > 0:
                    reached = max(reached, done[prefix])
                    prefix += 1
                if prefix < requests[r + 4]:
                    due = -1
                    break
                due = max(previous, reached) + requests[r + 3]
            if due > t:
                break
            kind, offset, size = requests[r] & KIND_MASK, requests[r + 1], requests[r + 2]
            nfree -= 1
            slot = scratch[free + nfree]
            index = tail & sq_mask
            if kind == READ:
                _put(
                    sqes,
                    index,
                    OP_READ,
                    fd,
                    first + offset,
                    cfg[layout.READ_ADDRESS],
                    size,
                    slot,
                    0,
                )
            elif kind == WRITE:
                durable = RWF_DSYNC if requests[r] >> FLAGS_SHIFT & DURABLE_FLAG else 0
                source = cfg[layout.POOL_ADDRESS] + slot * stride
                if stride:
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
                _put(sqes, index, OP_WRITE, fd, first + offset, source, size | durable, slot, 0)
            elif kind == FLUSH:
                _put(sqes, index, OP_FSYNC, fd, 0, 0, DATA_ONLY, slot, 0)
            else:
                # A discard takes what it took: what a drive does about one is its own affair.
                span = spans + 2 * slot
                scratch[span], scratch[span + 1] = size // SECOND_NS, size % SECOND_NS
                _put(sqes, index, OP_TIMEOUT, 0, 0, base + 8 * span, 1, slot, 0)
            if pace == AT_ITS_PACE and t - due > LATE_NS:
                out[layout.REPLAY_LATE] += 1
                out[layout.REPLAY_LATE_NS] += t - due
            scratch[at + slot] = t
            scratch[which + slot] = i
            previous = t
            if in_flight == 0:
                busy_since = t
            tail += 1
            unsent += 1
            in_flight += 1
            i += 1
            due = -1
        if in_flight == 0 and (not going or i >= n):
            break
        if not timer_set:
            _put(sqes, tail & sq_mask, OP_TIMEOUT, 0, 0, timer_address, 1, TIMER, 0)
            tail += 1
            unsent += 1
            timer_set = True
        store_release_u32(sq_tail, tail)
        if due >= 0 and due - t <= SPIN_NS:
            code = libc_syscall(ENTER, ring, unsent, 0, GET_EVENTS, 0, 0)
        elif due >= 0 and in_flight == 0:
            code = libc_syscall(ENTER, ring, unsent, 0, GET_EVENTS, 0, 0)
            sleep_ns(min(due - t - SPIN_NS, LOOK_NS), ts)
        elif due >= 0:
            scratch[layout.PATIENCE_SPEC] = 0
            scratch[layout.PATIENCE_SPEC + 1] = min(due - t - SPIN_NS // 2, LOOK_NS)
            code = libc_syscall(ENTER, ring, unsent, 1, GET_EVENTS | EXT_ARG, wait_address, 24)
        else:
            code = libc_syscall(ENTER, ring, unsent, 1, GET_EVENTS, 0, 0)
        t = now(MONOTONIC, ts)
        if code >= 0:
            unsent -= code
        else:
            errno = last_errno()
            if errno == ETIME:
                unsent = 0
            elif errno not in (EINTR, EAGAIN, EBUSY):
                note_fault(errno, 0, 0, 0, t - start, row, slices, out)
                break
        row = min((t - start) // SLICE_NS, rows - 1)
        seen = load_acquire_u32(cq_tail)
        while head != seen:
            index = head & cq_mask
            slot = cqes[2 * index]
            # The low half, as a signed number.
            result = ((cqes[2 * index + 1] & 0xFFFFFFFF) ^ 0x80000000) - 0x80000000
            head += 1
            if head > 0xFFFFFFFF:
                head = 0
            if slot == TIMER:
                timer_set = False
                continue
            in_flight -= 1
            scratch[free + nfree] = slot
            nfree += 1
            r = layout.REPLAY_COLUMNS * scratch[which + slot]
            kind, size = requests[r] & KIND_MASK, requests[r + 2]
            done[requests[r + 5]] = t
            out[layout.REPLAY_DONE] += 1
            if in_flight == 0:
                out[layout.REPLAY_WAITED_NS] += t - busy_since
            if kind <= WRITE and result == size:
                count(t - scratch[at + slot], kind, size, row, slices, counts, out)
            elif kind > WRITE and (result >= 0 or (kind == DISCARD and result == -ETIME)):
                out[layout.REPLAY_ASIDE] += 1
            else:
                code = -result if result < 0 else 0
                place = requests[r + 1]
                direction = 1 if kind != READ else 0
                note_fault(code, result, place, direction, t - start, row, slices, out)
                if cfg[layout.STOP_ON_ERROR]:
                    going = False
        store_release_u32(cq_head, head)
        if going and ctl[layout.STOP] >= layout.FINISH:
            going = False
        if ctl[layout.STOP] == layout.ABANDON:
            break
    out[layout.ENDED_NS] = now(MONOTONIC, ts)
    out[layout.BEGAN_NS] = start
    out[layout.LEFT_IN_FLIGHT] = in_flight
    out[layout.CPU_NS] = now(THREAD_CPU, ts) - cpu
