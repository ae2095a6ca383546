"""A recording done again on a file or a device, every request in its turn."""

from __future__ import annotations

import os
from abc import abstractmethod
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt
from typing_extensions import override

from jovik.base.chain import THINK_NS
from jovik.base.errors import TargetError
from jovik.base.io_session import ProgressCallback, ReplayJob, Workload
from jovik.base.quantities import show_size
from jovik.base.recording import CHUNK, Kind, Recording, dependencies, lanes_of, union_ns
from jovik.base.trace import ReplayRecord, StampFaults, Trace
from jovik.engine import loops
from jovik.engine.buffers import POOL_BYTES, SMALL_UNIT, STAMP_BYTES, area, payload
from jovik.engine.host_overhead import NO_OVERHEAD, HostOverhead, host_overhead
from jovik.engine.kernel import layout
from jovik.engine.ring import Ring
from jovik.engine.worker_pool import ThreadState, WorkerPool, place_ring
from jovik.hardware.device import BlockDevice, by_node, under_folder

if TYPE_CHECKING:
    from jovik.engine.buffers import Buffers
    from jovik.engine.storage import Storage

MOST_IN_FLIGHT = 1024
MOST_LANES = 128
"""Threads that a replay by blocking calls starts at most."""
OWN_PAYLOAD_BYTES = 64 * 2**20
MOST_STAMPED = 64 * 2**20
"""Bytes of payload up to which each request in flight has its own, which a stamp needs."""
READ_BACK_BYTES = 2**20
PACES = {"dependent": 0, "recorded": 1, "fast": 2}
_HEAD = np.dtype([("place", "<i8"), ("generation", "<i8"), ("seed", "<i8"), ("source", "<i8")])


def workload_of(job: ReplayJob, room_bytes: int) -> Workload:
    """Return the area of a replay as a workload, which lays it out and allows its writes."""
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
    """Return offsets folded into a smaller range."""
    if recording.span_bytes <= span_bytes:
        return recording.offset
    whole = max(span_bytes // CHUNK, 1) * CHUNK
    begin = recording.offset % whole
    # No request may reach beyond the end.
    return np.minimum(begin, np.maximum(whole - recording.bytes, 0)) // 4096 * 4096


class ReplayPool(WorkerPool):
    """The threads of a replay.

    Each request in flight writes from a payload of its own, whose sectors carry stamps, where all
    of them take no more than `MOST_STAMPED`. The host's overhead is in the recorded think
    times after a completion, and taken off them.

    Raises
    ------
    TargetError
        A request is too large, or stamps are wanted and would take too much memory.
    """

    def __init__(
        self,
        job: ReplayJob,
        work: Workload,
        fd: int,
        buffers: Buffers,
        overhead: HostOverhead = NO_OVERHEAD,
    ) -> None:
        recording = job.recording
        moves, writing = recording.kind <= Kind.WRITE, recording.kind == Kind.WRITE
        largest = int(recording.bytes[moves].max(initial=4096))
        if largest > OWN_PAYLOAD_BYTES:
            raise TargetError(
                f"a request of the recording has {show_size(largest)}, which is too large"
            )
        known = dependencies(recording)
        reading = recording.kind == Kind.READ
        longer = np.where(reading, overhead.read.used_ns, overhead.write.used_ns) * known.woken
        when: npt.NDArray[np.int64] | int = np.maximum(known.think_ns - longer, 0)
        if job.pace != "dependent":
            when = recording.issue_ns if job.pace == "recorded" else 0
        columns: list[npt.NDArray[np.int64] | int] = [
            recording.kind.astype(np.int64) | recording.flags.astype(np.int64) << 8,
            folded(recording, work.span_bytes),
            np.where(
                recording.kind == Kind.DISCARD,
                recording.done_ns - recording.issue_ns,
                recording.bytes,
            ),
            when,
            known.after,
            known.rank,
        ]
        self.requests = np.empty((len(recording), layout.REPLAY_COLUMNS), np.int64)
        for index, column in enumerate(columns):
            self.requests[:, index] = column
        self.done = np.zeros(len(recording), np.int64)
        self.job, self.overhead = job, overhead
        stride = int(recording.bytes[writing].max(initial=0))
        slots = self.slots(work)
        self.stride = stride if stride * slots <= MOST_STAMPED else 0
        if job.verify and stride and not self.stride:
            raise TargetError(
                f"{slots} requests of up to {show_size(stride)} at once are too much to verify",
                "leave 'verify' out",
            )
        # What is read goes nowhere, so that all requests may share one place.
        self.reads = area(largest)
        self.pool = payload(max(largest, self.stride * slots, POOL_BYTES), job.seed, 0)
        super().__init__(work, fd, buffers, np.zeros(1, np.int32))

    @staticmethod
    @abstractmethod
    def slots(work: Workload) -> int:
        """Return how many requests may be in flight at once."""

    def _told(self, cfg: npt.NDArray[np.int64], count: int, number: int = 0) -> None:
        """Hand the recording to a loop."""
        for index, value in (
            (layout.QUOTA, count),
            (layout.DEPTH, self.work.depth),
            (layout.READ_ADDRESS, self.reads.ctypes.data),
            (layout.POOL_ADDRESS, self.pool.ctypes.data),
            (layout.STAMP_SEED, self.job.seed),
            (layout.REPLAY_PACE, PACES[self.job.pace]),
            (layout.REPLAY_STRIDE, self.stride),
            (layout.REPLAY_UNIT, number),
            (layout.REPLAY_GENERATION, 1),
        ):
            cfg[index] = value

    @abstractmethod
    def waited_ns(self) -> int:
        """Time in which at least one request was in flight."""

    def with_record(self, trace: Trace) -> Trace:
        """Return the trace with the replay's result beside the recorded figures.

        Stamps read if wanted.
        """
        recording = self.job.recording
        record = ReplayRecord(
            requests=self.total(layout.REPLAY_DONE),
            elapsed_ns=trace.elapsed_ns + self.job.tail_ns,
            waited_ns=self.waited_ns(),
            recorded_ns=recording.elapsed_ns,
            recorded_waited_ns=recording.waited_ns,
            late=self.total(layout.REPLAY_LATE),
            late_ns=self.total(layout.REPLAY_LATE_NS),
            overhead_read_ns=self.overhead.read.used_ns,
            overhead_write_ns=self.overhead.write.used_ns,
        )
        back = self.job.verify and self.work.writes and not trace.stopped
        return replace(trace, replay=record, stamps=self.read_back() if back else trace.stamps)

    def read_back(self) -> StampFaults:
        """Read every sector that was written, and compare it with its stamp.

        All of a pass carry one generation, so that it does not matter which of two writes to one
        place came last.
        """
        sectors = self._written_sectors()
        target = area(READ_BACK_BYTES)
        wrong: list[int] = []
        unreadable: list[int] = []
        for begin, end in _stretches(sectors):
            for at in range(begin, end, READ_BACK_BYTES):
                size = min(READ_BACK_BYTES, end - at)
                units = np.arange(at // SMALL_UNIT, (at + size) // SMALL_UNIT)
                own = units[np.isin(units, sectors, assume_unique=True)]
                try:
                    got = os.preadv(self.fd, [memoryview(target)[:size]], at)  # type: ignore[arg-type]
                except OSError:
                    got = 0
                if got < size:
                    unreadable += own.tolist()
                    continue
                rows = target[:size].reshape(-1, SMALL_UNIT)[own - at // SMALL_UNIT]
                wrong += own[~self._as_stamped(rows, own * SMALL_UNIT)].tolist()
        # As everywhere they are told as blocks of 4 KiB.
        blocks = [len(np.unique(np.array(x, np.int64) // 8)) for x in (sectors, wrong, unreadable)]
        places = tuple(sorted(u * SMALL_UNIT for u in wrong + unreadable)[: layout.BAD_PLACES])
        return StampFaults(blocks[0], blocks[1], 0, blocks[2], places)

    def _written_sectors(self) -> npt.NDArray[np.int64]:
        """Return the sectors that completed requests wrote, in order."""
        kind, offset, size = self.job.recording.kind, self.requests[:, 1], self.requests[:, 2]
        written = (kind == Kind.WRITE) & (self.done[self.requests[:, layout.REPLAY_RANK]] > 0)
        parts = [
            np.arange(o // SMALL_UNIT, (o + s) // SMALL_UNIT)
            for o, s in zip(offset[written], size[written], strict=True)
        ]
        return np.unique(np.concatenate(parts)) if parts else np.zeros(0, np.int64)

    def _as_stamped(
        self, rows: npt.NDArray[np.uint8], places: npt.NDArray[np.int64]
    ) -> npt.NDArray[np.bool_]:
        """Return which sectors are as they were stamped at these places."""
        heads = np.ascontiguousarray(rows[:, :STAMP_BYTES]).view(_HEAD)[:, 0]
        source = heads["source"] ^ _mixed(heads["place"], heads["generation"], heads["seed"])
        good = (heads["place"] == places) & (heads["generation"] == 1)
        good &= heads["seed"] == self.job.seed
        good &= (source >= 0) & (source <= len(self.pool) - SMALL_UNIT) & (source % SMALL_UNIT == 0)
        body = np.where(good, source, 0) // SMALL_UNIT
        whole = self.pool[: len(self.pool) // SMALL_UNIT * SMALL_UNIT].reshape(-1, SMALL_UNIT)
        same = np.all(rows[:, STAMP_BYTES:] == whole[body][:, STAMP_BYTES:], axis=1)
        intact: npt.NDArray[np.bool_] = np.logical_and(good, same)
        return intact


def _stretches(sectors: npt.NDArray[np.int64]) -> list[tuple[int, int]]:
    """Return where sectors lie, as beginnings and ends in bytes that direct I/O takes."""
    if not len(sectors):
        return []
    pages = np.unique(sectors * SMALL_UNIT // 4096)
    cuts = np.flatnonzero(np.diff(pages) > 1) + 1
    return [(int(part[0]) * 4096, (int(part[-1]) + 1) * 4096) for part in np.split(pages, cuts)]


def _mixed(
    storage: npt.NDArray[np.int64],
    generation: npt.NDArray[np.int64],
    seed: npt.NDArray[np.int64],
) -> npt.NDArray[np.int64]:
    """Return the checksum of stamps, as `jovik.engine.kernel.primitives.mix` does."""
    by, multiplier = np.uint64(0x9E3779B97F4A7C15), np.uint64(2685821657736338717)
    h = storage.astype(np.uint64) * by ^ generation.astype(np.uint64)
    h = (h ^ (h >> np.uint64(29))) * multiplier ^ seed.astype(np.uint64)
    h = (h ^ (h >> np.uint64(31))) * by
    return (h >> np.uint64(1)).astype(np.int64)


class UringReplayPool(ReplayPool):
    """One ring, one thread."""

    name = "io_uring"
    loop = "replay_loop"

    @staticmethod
    def threads_for(work: Workload) -> int:
        """Return one, because a program's requests have an order."""
        return 1

    @staticmethod
    def slots(work: Workload) -> int:
        """As many as the ring has."""
        return work.depth

    def _parts(self) -> list[ThreadState]:
        (part,) = super()._parts()
        self._told(part.cfg, len(self.requests))
        return [part]

    def _loop(self, part: ThreadState) -> None:
        ring = Ring(self.work.depth)
        place_ring(part.cfg, ring)
        try:
            loops.load(self.loop)(
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

    @override
    def waited_ns(self) -> int:
        # The loop counts it.
        return self.total(layout.REPLAY_WAITED_NS)


class BlockingReplayPool(ReplayPool):
    """A thread for each lane of requests, so that those of one lane follow each other."""

    name = "blocking calls"
    loop = "replay_lane"

    @staticmethod
    def threads_for(work: Workload) -> int:
        """Return one for each request that was in flight at once, up to a bound."""
        return min(work.depth, MOST_LANES)

    @staticmethod
    def slots(work: Workload) -> int:
        """Return one for each lane."""
        return min(work.depth, MOST_LANES)

    def _parts(self) -> list[ThreadState]:
        count = self.threads_for(self.work)
        lane = lanes_of(self.job.recording, count)
        self.lanes = [np.flatnonzero(lane == n).astype(np.int64) for n in range(count)]
        self.issued = np.zeros(len(self.requests), np.int64)
        parts = super()._parts()
        for number, part in enumerate(parts):
            self._told(part.cfg, len(self.lanes[number]), number)
        self._number = {id(part): n for n, part in enumerate(parts)}
        return parts

    def _loop(self, part: ThreadState) -> None:
        loops.load(self.loop)(
            part.cfg,
            self.ctl,
            self.lanes[self._number[id(part)]],
            self.requests,
            self.done,
            self.issued,
            part.slices,
            part.counts,
            part.out,
            part.scratch,
        )

    @override
    def waited_ns(self) -> int:
        # From when each request was issued and done.
        ended = self.done[self.requests[:, layout.REPLAY_RANK]]
        finished = (self.issued > 0) & (ended > 0)
        return union_ns(self.issued[finished], ended[finished])


class Replays:
    """Replays on one place, and the overhead there, which is measured before and after each.

    Parameters
    ----------
    place : Storage
    buffers : Buffers
    attended : callable
        Run the threads of a replay to their end, and return the result.
    """

    def __init__(
        self,
        storage: Storage,
        buffers: Buffers,
        attended: Callable[[WorkerPool, Workload, ProgressCallback], Trace],
    ) -> None:
        self.storage, self.buffers, self._attended = storage, buffers, attended
        self._overhead = NO_OVERHEAD
        self._of: Recording | None = None

    def run(
        self, job: ReplayJob, room_bytes: int, watch: ProgressCallback, *, by_calls: bool
    ) -> Trace:
        """Return one replay, by blocking calls or by a ring. `ReplayPool` describes errors."""
        kind: type[ReplayPool] = BlockingReplayPool if by_calls else UringReplayPool
        # A loop that has to be compiled first would be late from its first request on.
        loops.load(kind.loop)

        def once(job: ReplayJob, overhead: HostOverhead = NO_OVERHEAD) -> Trace:
            work = workload_of(job, room_bytes)
            pool = kind(job, work, self.storage.fd, self.buffers, overhead)
            return pool.with_record(self._attended(pool, work, watch))

        def waited_ns(chain: Recording) -> int:
            replayed = once(ReplayJob(chain)).replay
            return replayed.waited_ns if replayed is not None else 0

        device = _drive_of(self.storage) if job.pace == "dependent" else None
        if device is None:
            return once(job)
        think_ns = usual_think_ns(job.recording)

        def measured() -> HostOverhead:
            return host_overhead(device.name, waited_ns, think_ns, writing=job.recording.writes)

        before = self._overhead if self._of is job.recording else measured()
        trace = once(job, before)
        if trace.stopped:
            return trace
        # After this pass is before the next one.
        after = measured()
        self._overhead, self._of = after, job.recording
        return _with_overheads(trace, before, after)


def usual_think_ns(recording: Recording) -> int:
    """Return the median think time after a completion: who slept longer is woken more slowly."""
    known = dependencies(recording)
    after = known.think_ns[known.woken]
    return int(np.clip(np.median(after), *THINK_NS)) if len(after) else THINK_NS[1]


def _with_overheads(trace: Trace, before: HostOverhead, after: HostOverhead) -> Trace:
    """Return the trace of a pass with the overheads before it and after it."""
    assert trace.replay is not None
    known = [x for o in (before, after) for x in (o.read, o.write) if x.high_ns]
    both = ((before.read, after.read), (before.write, after.write))
    moved = any(abs(one.median_ns - two.median_ns) > one.tolerance_ns for one, two in both)
    record = replace(
        trace.replay,
        overhead_from_ns=min((x.low_ns for x in known), default=0),
        overhead_to_ns=max((x.high_ns for x in known), default=0),
        busy=moved or not all(x.certain for x in known),
    )
    return replace(trace, replay=record)


def _drive_of(storage: Storage) -> BlockDevice | None:
    """Return the drive whose own count of time is reliable, or None behind a cache."""
    if not storage.direct:
        return None
    where = Path(storage.folder)
    return by_node(where) if storage.capacity_bytes_addressed() else under_folder(where)[0]
