"""The threads of one pass: their orders, their records, and the sums of these.

A `ThreadState` is one thread's share. io_uring has a thread for each worker, blocking calls one for
each I/O in flight; that is the only difference, and the two small classes at the end are all of it.
"""

from __future__ import annotations

import ctypes
import os
import threading
import time
from abc import ABC, abstractmethod
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from jovik.base import histogram
from jovik.base.interruption import check, held_back
from jovik.base.io_session import Workload
from jovik.base.trace import MOST_PLACES, SLICE_COLUMNS, SLICE_NS, FailedPlace, IoFault, Latencies
from jovik.engine import loops
from jovik.engine.buffers import Buffers, unit_of
from jovik.engine.kernel import layout
from jovik.engine.ring import Ring

LONGEST_NS = 24 * 3600 * 10**9
"""A pass that only an amount ends is ended here at the latest, so that its slices have a bound."""
MOST_ROWS = LONGEST_NS // SLICE_NS
SPARE_ROWS = 64
"""Slices past the time limit, for the wait on I/Os in flight."""


def _rows(work: Workload, threads: int) -> int:
    time_ns = work.time_ns if work.time_ns is not None else LONGEST_NS
    # Zeroed memory is only taken when it is touched, so the bound costs nothing; many threads share
    # it all the same.
    return int(min(time_ns // SLICE_NS + SPARE_ROWS, max(MOST_ROWS // threads, 36_000)))


def blank_out() -> npt.NDArray[np.int64]:
    """Return the final values of a loop before it has begun."""
    out = np.zeros(layout.OUT_COUNT, np.int64)
    out[layout.MIN_READ] = out[layout.MIN_WRITE] = layout.NEVER
    out[layout.FIRST_BAD : layout.FIRST_BAD + layout.BAD_PLACES] = -1
    out[layout.FAULT_PLACES : layout.FAULT_PLACES + MOST_PLACES] = -1
    return out


@dataclass
class ThreadState:
    """One thread's share of a pass."""

    cfg: npt.NDArray[np.int64]
    slices: npt.NDArray[np.int64]
    shared: npt.NDArray[np.int64]
    scratch: npt.NDArray[np.int64]
    counts: npt.NDArray[np.int64] = field(
        default_factory=lambda: np.zeros((2, histogram.COUNT), np.int64)
    )
    out: npt.NDArray[np.int64] = field(default_factory=blank_out)


class WorkerPool(ABC):
    """All threads of one pass.

    Parameters
    ----------
    work : Workload
    fd : int
        The open test file or device.
    buffers : Buffers
        Already fitted to the pass.
    generations : int32 array
        One for each unit of the span when verifying, else shape (1,).
    read_generation, fixed_generation : int
        What a stamp that is read should say (negative: look it up); what every write says
        (negative: count up).
    first_block : int
        Where the span begins.
    """

    name: str
    loop: str

    def __init__(
        self,
        work: Workload,
        fd: int,
        buffers: Buffers,
        generations: npt.NDArray[np.int32],
        *,
        read_generation: int = -1,
        fixed_generation: int = -1,
        first_block: int = 0,
        no_op: bool = False,
    ) -> None:
        self.work, self.fd, self.buffers, self.generations = work, fd, buffers, generations
        self.ctl = np.zeros(layout.CTL_COUNT, np.int64)
        self.failure: BaseException | None = None
        self._options = (read_generation, fixed_generation, first_block, int(no_op))
        self.parts = self._parts()
        self.threads = [
            threading.Thread(target=self._guarded, args=(p,), daemon=True) for p in self.parts
        ]

    @staticmethod
    @abstractmethod
    def threads_for(work: Workload) -> int:
        """Return how many threads a pass takes."""

    @abstractmethod
    def _loop(self, part: ThreadState) -> None:
        """Run one thread's loop."""

    def _parts(self) -> list[ThreadState]:
        work, parts = self.work, []
        threads = self.threads_for(work)
        each = threads // work.workers
        rows = _rows(work, threads)
        for worker in range(work.workers):
            shared = np.zeros(layout.SHARED_COUNT, np.int64)
            for member in range(each):
                number = worker * each + member
                cfg = self._cfg(worker, number, threads)
                slots = work.depth * work.workers // threads
                scratch = np.zeros(layout.SLOTS + layout.SLOT_ARRAYS * slots, np.int64)
                parts.append(
                    ThreadState(
                        cfg, np.zeros((rows, len(SLICE_COLUMNS)), np.int64), shared, scratch
                    )
                )
        return parts

    def _cfg(self, worker: int, number: int, threads: int) -> npt.NDArray[np.int64]:
        work = self.work
        read_generation, fixed_generation, first, no_op = self._options
        blocks = work.span_bytes // work.block_bytes
        # Sequential workers have parts of their own; so have the writers of a pass that is to be
        # verified, where two
        # writes to one block at the same time would leave it open which of them should be found.
        if not work.random:
            first, blocks = _share(first, blocks, worker, work.workers)
        elif work.verify and work.writes:
            first, blocks = _share(first, blocks, number, threads)
        in_flight = work.depth * work.workers // threads
        quota = -1
        if work.amount_bytes is not None:
            total = max(work.amount_bytes // work.block_bytes, 1)
            quota = total // work.workers + (1 if worker < total % work.workers else 0)
        pace = 0
        if work.rate_limit_bytes_s:
            pace = round(work.block_bytes * threads / work.rate_limit_bytes_s * 1e12)
        seed = np.random.SeedSequence([work.seed, number]).generate_state(1, np.uint64)[
            0
        ] | np.uint64(1)
        cfg = np.zeros(layout.CFG_COUNT, np.int64)
        for index, value in (
            (layout.FD, self.fd),
            (layout.BLOCK, work.block_bytes),
            (layout.READ_SHARE, 2**32 * work.read_percent // 100),
            (layout.RANDOM, int(work.random)),
            (layout.FIRST_BLOCK, first),
            (layout.BLOCKS, blocks),
            (layout.TIME_NS, work.time_ns if work.time_ns is not None else LONGEST_NS),
            (layout.QUOTA, quota),
            (layout.ROWS, _rows(work, threads)),
            (layout.DEPTH, in_flight),
            (layout.PACE_PS, pace),
            (layout.DURABLE, int(work.durable)),
            (layout.STOP_ON_ERROR, int(work.stop_on_error)),
            (layout.VERIFY, int(work.verify)),
            (
                layout.READ_ADDRESS,
                self.buffers.reads.ctypes.data + number * in_flight * work.block_bytes,
            ),
            (layout.POOL_ADDRESS, self.buffers.pool.ctypes.data),
            (layout.POOL_BYTES, self.buffers.pool.nbytes),
            (layout.POOL_ROUNDS, self.buffers.rounds),
            (layout.FIRST_SLOT, number * in_flight),
            (layout.ALL_SLOTS, work.depth * work.workers),
            (layout.SEED, seed.astype(np.int64)),
            (layout.STAMP_SEED, self.buffers.seed),
            (layout.UNIT, unit_of(work.block_bytes)),
            (layout.READ_GENERATION, read_generation),
            (layout.FIXED_GENERATION, fixed_generation),
            (layout.NO_OP, no_op),
        ):
            cfg[index] = value
        return cfg

    def _guarded(self, part: ThreadState) -> None:
        try:
            self._loop(part)
        except BaseException as error:
            self.failure = error
            self.ctl[layout.STOP] = layout.FINISH

    @held_back()
    def start(self) -> None:
        """Start all threads, which begin their I/O together."""
        # Threads take a moment to come up; the more there are, the longer.
        self.ctl[layout.START_AT] = time.monotonic_ns() + 200_000 + 60_000 * len(self.threads)
        for thread in self.threads:
            thread.start()

    def stop(self, how: int = layout.FINISH) -> None:
        """Ask the loops to finish, or to abandon the I/Os in flight."""
        self.ctl[layout.STOP] = how

    def wait(self, seconds: float) -> bool:
        """Wait for at most this long, and return True if all threads have ended.

        Raises
        ------
        KeyboardInterrupt
            A request to end the run is pending.
        """
        check()
        end = time.monotonic() + seconds
        for thread in self.threads:
            thread.join(max(0.0, end - time.monotonic()))
        return not any(t.is_alive() for t in self.threads)

    def slices(self, rows: int) -> npt.NDArray[np.int64]:
        """Return the first `rows` slices of all threads together, shape ``(rows, 5)``."""
        total = np.zeros((rows, len(SLICE_COLUMNS)), np.int64)
        for part in self.parts:
            used = part.slices[:rows]
            total[: len(used)] += used
        return total

    def elapsed_ns(self) -> int:
        """From the first thread's beginning to the last one's end."""
        began = [int(p.out[layout.BEGAN_NS]) for p in self.parts if p.out[layout.BEGAN_NS]]
        ended = [int(p.out[layout.ENDED_NS]) for p in self.parts]
        return max(max(ended) - min(began), 0) if began else 0

    def total(self, place: int) -> int:
        """Return the sum of one place of all threads' `out`."""
        return int(sum(int(p.out[place]) for p in self.parts))

    def latencies(self) -> dict[str, Latencies]:
        """Latencies by direction, all threads together."""
        histograms = {}
        for direction, name in enumerate(("read", "write")):
            counts = np.sum([p.counts[direction] for p in self.parts], axis=0)
            if counts.any():
                histograms[name] = Latencies(
                    counts,
                    min(int(p.out[layout.MIN_READ + direction]) for p in self.parts),
                    max(int(p.out[layout.MAX_READ + direction]) for p in self.parts),
                    self.total(layout.SUM_READ + direction),
                )
        return histograms

    def first_fault(self) -> IoFault | None:
        """Return the earliest error of all threads."""
        faults = [p.out for p in self.parts if p.out[layout.FAULT_NS]]
        if not faults:
            return None
        out = min(faults, key=lambda o: int(o[layout.FAULT_NS]))
        code, got = int(out[layout.FAULT_ERRNO]), int(out[layout.FAULT_GOT])
        short = (
            f"short transfer: {got} of {self.work.block_bytes} bytes"
            if got
            else "no I/O came back, as from a drive that has disappeared"
        )
        what = os.strerror(code) if code else short
        direction = "write" if out[layout.FAULT_WRITE] else "read"
        last = max((p.out for p in self.parts), key=lambda o: int(o[layout.LAST_WRITE_NS]))
        return IoFault(
            code,
            what,
            int(out[layout.FAULT_OFFSET]),
            direction,
            int(out[layout.FAULT_NS]),
            int(last[layout.LAST_WRITE_END]) or None,
            self.failed_places(),
        )

    def failed_places(self) -> tuple[FailedPlace, ...]:
        """Return the distinct blocks that failed, in order."""
        noted = {
            int(n)
            for p in self.parts
            for n in p.out[layout.FAULT_PLACES : layout.FAULT_PLACES + MOST_PLACES]
            if n >= 0
        }
        length = self.work.block_bytes
        return tuple(
            FailedPlace(n // 2 * 2, length, "write" if n % 2 else "read") for n in sorted(noted)
        )

    def bad_places(self) -> tuple[int, ...]:
        """Return the first places that came back wrong, in order."""
        offsets: Iterable[int] = (
            int(n)
            for p in self.parts
            for n in p.out[layout.FIRST_BAD : layout.FIRST_BAD + layout.BAD_PLACES]
            if n >= 0
        )
        return tuple(sorted(offsets)[: layout.BAD_PLACES])


def _share(first: int, blocks: int, number: int, count: int) -> tuple[int, int]:
    """Return one of `count` equal parts of a run of blocks."""
    each = max(blocks // count, 1)
    return first + number % max(blocks, 1) * each, each


CLONE_FILES = 0x400
"""Of <linux/sched.h>."""


def _own_files() -> None:
    """Give this thread a table of open files of its own, where the system can (`unshare(2)`).

    Of a shared table the kernel counts each use of a file, atomically, in every call; at one I/O in
    flight that is a hundredth of it.
    """
    unshare = getattr(ctypes.CDLL(None), "unshare", None)
    if unshare is not None:
        unshare(CLONE_FILES)


def place_ring(cfg: npt.NDArray[np.int64], ring: Ring) -> None:
    """Tell a loop where its ring is."""
    for index, value in (
        (layout.RING_FD, ring.fd),
        (layout.SQ_TAIL, ring.sq_tail),
        (layout.SQ_MASK, ring.sq_mask),
        (layout.CQ_HEAD, ring.cq_head),
        (layout.CQ_TAIL, ring.cq_tail),
        (layout.CQ_MASK, ring.cq_mask),
    ):
        cfg[index] = value


class UringPool(WorkerPool):
    """A thread and a ring for each worker."""

    name = "io_uring"
    loop = "uring_loop"

    @staticmethod
    def threads_for(work: Workload) -> int:
        """Return one for each worker."""
        return work.workers

    def _loop(self, part: ThreadState) -> None:
        # The ring belongs to the thread that made it, which lets the kernel spare its locks.
        cfg, work = part.cfg, self.work
        ring = Ring(work.depth)
        cfg[layout.FIXED_FILE] = 0 if cfg[layout.NO_OP] else int(ring.register_file(self.fd))
        cfg[layout.FIXED_BUFFERS] = (
            0
            if cfg[layout.NO_OP]
            else int(ring.register_buffers(self.buffers.reads, self.buffers.pool))
        )
        place_ring(cfg, ring)
        marks = (
            work.span_bytes // work.block_bytes
            if work.verify and work.writes and work.random
            else 1
        )
        busy = np.zeros(marks, np.uint8)
        try:
            loops.load(self.loop)(
                cfg,
                self.ctl,
                ring.sqes,
                ring.cqes,
                part.slices,
                part.counts,
                part.out,
                self.generations,
                busy,
                part.scratch,
            )
        finally:
            ring.close()


class BlockingPool(WorkerPool):
    """A thread with blocking calls for each I/O in flight."""

    name = "blocking calls"
    loop = "blocking_loop"

    @staticmethod
    def threads_for(work: Workload) -> int:
        """Return one for each I/O in flight."""
        return work.workers * work.depth

    def _loop(self, part: ThreadState) -> None:
        _own_files()
        loops.load(self.loop)(
            part.cfg,
            self.ctl,
            part.shared,
            part.slices,
            part.counts,
            part.out,
            self.generations,
            part.scratch,
        )
