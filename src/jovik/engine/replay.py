"""A recording done again on a file or a device: one ring, one thread, every request in its turn."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from jovik.base.errors import TargetError
from jovik.base.quantities import show_size
from jovik.base.recording import CHUNK, Kind, Recording, dependencies
from jovik.base.session import ReplayJob, Workload
from jovik.base.trace import ReplayRecord, Trace
from jovik.engine import code_cache
from jovik.engine.buffers import POOL_BYTES, area, payload
from jovik.engine.kernel import layout
from jovik.engine.ring import Ring
from jovik.engine.worker_pool import ThreadState, WorkerPool, place_ring

if TYPE_CHECKING:
    from jovik.engine.buffers import Buffers

MOST_IN_FLIGHT = 1024
LARGEST = 64 * 2**20
PACES = {"dependent": 0, "recorded": 1, "fast": 2}


def workload_of(job: ReplayJob, room_bytes: int) -> Workload:
    """The area of a replay as a workload, which lays it out and says what is written."""
    span_bytes = min(job.recording.span_bytes, room_bytes)
    kinds = job.recording.kind
    reads, writes = int((kinds == Kind.READ).sum()), int((kinds == Kind.WRITE).sum())
    share = round(100 * reads / max(reads + writes, 1))
    if writes:
        share = min(share, 99)
    return Workload(
        random=True,
        read_percent=max(share, 1) if reads else 0,
        block_bytes=4096,
        depth=min(max(job.recording.depth, 1), MOST_IN_FLIGHT),
        span_bytes=span_bytes,
        seed=job.seed,
        amount_bytes=max(int(job.recording.bytes[kinds <= Kind.WRITE].sum()), 4096),
        stop_on_error=job.stop_on_error,
    )


def folded(recording: Recording, span_bytes: int) -> npt.NDArray[np.int64]:
    """Offsets within a smaller range: what lies beyond begins at the start again."""
    if recording.span_bytes <= span_bytes:
        return recording.offset
    whole = max(span_bytes // CHUNK, 1) * CHUNK
    begin = recording.offset % whole
    # No request may reach beyond the end.
    return np.minimum(begin, np.maximum(whole - recording.bytes, 0)) // 4096 * 4096


class ReplayPool(WorkerPool):
    """The one thread of a replay."""

    name = "io_uring"
    loop = "replay_loop"

    def __init__(self, job: ReplayJob, work: Workload, fd: int, buffers: Buffers) -> None:
        recording = job.recording
        moves = recording.kind <= Kind.WRITE
        largest = int(recording.bytes[moves].max(initial=4096))
        if largest > LARGEST:
            raise TargetError(
                f"a request of the recording has {show_size(largest)}, which is too large"
            )
        known = dependencies(recording)
        self.requests = np.column_stack(
            [
                recording.kind,
                folded(recording, work.span_bytes),
                recording.bytes,
                recording.flags,
                np.zeros_like(known.think_ns) if job.pace == "fast" else known.think_ns,
                known.after,
                known.rank,
                recording.issue_ns,
            ]
        ).astype(np.int64)
        self.done = np.zeros(len(recording), np.int64)
        # What is read goes nowhere, so that all requests may share one place; and so for writing.
        self.reads, self.pool = area(largest), payload(max(largest, POOL_BYTES), job.seed, 0)
        self._pace = PACES[job.pace]
        super().__init__(work, fd, buffers, np.zeros(1, np.int32))

    @staticmethod
    def threads_for(work: Workload) -> int:
        """One: what a program asks for has an order."""
        return 1

    def _parts(self) -> list[ThreadState]:
        (part,) = super()._parts()
        cfg = part.cfg
        for place, value in (
            (layout.QUOTA, len(self.requests)),
            (layout.DEPTH, self.work.depth),
            (layout.READ_ADDRESS, self.reads.ctypes.data),
            (layout.POOL_ADDRESS, self.pool.ctypes.data),
            (layout.REPLAY_PACE, self._pace),
        ):
            cfg[place] = value
        return [part]

    def _loop(self, part: ThreadState) -> None:
        ring = Ring(self.work.depth)
        place_ring(part.cfg, ring)
        try:
            code_cache.load(self.loop)(
                part.cfg,
                self.ctl,
                ring.sqes,
                ring.cqes,
                self.requests,
                self.done,
                part.slices,
                part.counts,
                part.out,
                part.scratch,
            )
        finally:
            ring.close()

    def with_record(self, trace: Trace, job: ReplayJob) -> Trace:
        """The trace with what came of it, beside the recorded figures."""
        recording = job.recording
        found = ReplayRecord(
            requests=self.total(layout.REPLAY_DONE),
            elapsed_ns=trace.elapsed_ns + job.tail_ns,
            waited_ns=self.total(layout.REPLAY_WAITED_NS),
            recorded_ns=recording.elapsed_ns,
            recorded_waited_ns=recording.waited_ns,
            late=self.total(layout.REPLAY_LATE),
            late_ns=self.total(layout.REPLAY_LATE_NS),
        )
        return replace(trace, replay=found)
