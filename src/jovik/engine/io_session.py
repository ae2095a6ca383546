"""Passes on a real file: lay it out, run a worker pool on it, watch it, and read stamps back."""

from __future__ import annotations

import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from jovik.base.errors import TargetError
from jovik.base.fault_errors import fault_error
from jovik.base.interruption import take_notice
from jovik.base.io_session import (
    CopyJob,
    DiscardResult,
    Progress,
    ProgressCallback,
    PurgeResult,
    ReplayJob,
    WearCounters,
    Workload,
)
from jovik.base.recording import CHUNK
from jovik.base.trace import SLICE_COLUMNS, Trace
from jovik.engine import loops
from jovik.engine.buffers import Buffers, check_memory, unit_of
from jovik.engine.file_copy import CopyFolder
from jovik.engine.io_file import IoFile
from jovik.engine.kernel import layout
from jovik.engine.pass_trace import live_latency_ns, progress_of, trace_of
from jovik.engine.replay import Replays
from jovik.engine.selection import select_engine
from jovik.engine.storage import Storage
from jovik.engine.worker_pool import BlockingPool, WorkerPool

STALL_S = 30.0
"""A pass in which nothing completes for so long is given up."""
STANDSTILL_S = 1.0
"""A check this late shows that the process was suspended (`jovik.hardware.standstill`)."""
GRACE_S = 0.08
"""How long Ctrl-C waits for I/Os in flight before it leaves them behind."""
LAYOUT_GENERATION = 2**30
"""The generation in the stamps of a laid-out file, beyond any pass number."""
LAYOUT_BLOCK, LAYOUT_DEPTH = 2**20, 8
MOST_THREADS = 1024
CEILING_NS = 60_000_000
"""How long the tester's own ceiling is measured before a step."""
GIVEN_BACK = "the test files were deleted; free some space, then jovik resume"
LATENCY_EVERY_S = 0.5
"""Interval at which the live view reads latencies from the per-thread histograms."""


class FileSession:
    """Passes on a test file in a folder, as a `jovik.base.io_session.Session`.

    Parameters
    ----------
    where : Path or Place
        An existing folder, for a test file in it; or a place that is open already.
    engine : str
        ``auto``, ``io_uring`` or ``blocking``.
    seed : int
        Of the payload and the stamps.
    notes : tuple of str
        Notes on the place, for every result from here.
    """

    def __init__(
        self,
        where: Path | Storage,
        engine: str = "auto",
        seed: int = 1,
        notes: tuple[str, ...] = (),
    ) -> None:
        self._more_notes = notes
        self._crew = select_engine(engine)
        self._wanted = engine
        self._auto = engine == "auto"
        self.storage: Storage = IoFile(where) if isinstance(where, Path) else where
        if engine == "auto" and not self.storage.direct:
            # For buffered I/O a ring uses a helper thread of the kernel, which costs more.
            self._crew = BlockingPool
        self.buffers = Buffers(seed)
        self._laid_out = 0
        self._stamped: tuple[int, int] | None = (
            None  # unit and compressible share of a file that only prefilling wrote
        )
        self._ceilings: dict[tuple[int, int, int], float | None] = {}
        self._fillers: list[FileSession] = []
        self._copies = CopyFolder(self.storage.folder)
        self._replays = Replays(self.storage, self.buffers, self._attended)
        self._room: int | None = None
        self._kept: list[WorkerPool] = []  # crews whose I/O never came back: their memory must stay

    @property
    def engine(self) -> str:
        """Return the implementation's name."""
        return self._crew.name

    @property
    def direct(self) -> bool:
        """Return True if the operating system's cache is out of the way."""
        return self.storage.direct

    @property
    def notes(self) -> tuple[str, ...]:
        """Return the note that goes with a cached file system."""
        notes = [] if self.direct else ["buffered (page cache)"]
        if not self.storage.writable:
            notes.append(
                "read as it is: the drive may answer reads of unwritten blocks without the medium"
            )
        return (*notes, *self._more_notes)

    def warm_up(self) -> None:
        """Load the compiled loops, or compile them if necessary."""
        for loop in {self._crew.loop, BlockingPool.loop} if self._auto else {self._crew.loop}:
            loops.load(loop)

    def engine_for(self, work: Workload) -> str:
        """Return the implementation that such a pass is run by."""
        return self._pool_for(work).name

    def _pool_for(self, work: Workload) -> type[WorkerPool]:
        # With one I/O in flight a plain call costs less than a ring, which is used on request.
        return (
            BlockingPool
            if self._auto and work.depth == 1 and work.workers <= MOST_THREADS
            else self._crew
        )

    def __enter__(self) -> FileSession:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """Close and so remove the test file and all else that was written."""
        self._copies.close()
        for filler in self._fillers:
            filler.close()
        if not self._kept:
            self.storage.close()
            return
        # Where I/O never came back, closing may not either; the kernel does it when the process has
        # gone.
        thread = threading.Thread(target=self.storage.close, daemon=True)
        thread.start()
        thread.join(GRACE_S)

    def now_ns(self) -> int:
        """Return the system's monotonic clock."""
        return time.monotonic_ns()

    def wait(self, time_ns: int) -> None:
        """Leave the drive alone."""
        time.sleep(time_ns / 1e9)

    def temperatures_c(self) -> dict[str, float]:
        """Return nothing, because the run reads the sensors itself."""
        return {}

    def free_bytes(self) -> int | None:
        """Return the bytes that may still be written."""
        return self.storage.free_bytes()

    def room_bytes(self) -> int | None:
        """Return the bytes that the test file may take.

        Asked once, so that all steps of a run have one area.
        """
        if self._room is None:
            self._room = self.storage.free_bytes()
        return self._room

    def check_purge(self) -> None:
        """See `jovik.base.io_session.Session.check_purge`."""
        if not self.storage.writable:
            raise TargetError(
                f"a purge of {self.storage.folder} destroys everything on it",
                "to allow that, name the sample: --destroy SERIAL",
            )

    def purge(self) -> PurgeResult:
        """Purge the raw device by its own commands, or a folder's free space by TRIM."""
        self.check_purge()
        given = self.empty() if self.capacity_bytes() is None else DiscardResult()
        self._laid_out, self._stamped = 0, None
        return self.storage.purge(given.note)

    def wear_bytes(self) -> WearCounters | None:
        """Return nothing, because the run reads the health log itself."""
        return None

    def capacity_bytes(self) -> int | None:
        """Return the size of a raw device, or None on a file system."""
        return self.storage.capacity_bytes_addressed()

    def fill_percent(self) -> float | None:
        """Return how full the file system is, or how much of a raw device was written."""
        whole = self.capacity_bytes()
        if whole is not None and self.storage.writable:
            return 100.0 * self._laid_out / whole
        return self.storage.fill_percent()

    def to_fill_bytes(self, percent: int) -> int:
        """Return the bytes that `fill` would write (`jovik.base.io_session.Session.fill`)."""
        whole = self.capacity_bytes()
        if whole is not None:
            if not self.storage.writable:
                raise TargetError(
                    f"filling {self.storage.folder} would destroy its content",
                    "to allow that, name the sample: --destroy SERIAL",
                )
            return max(whole * percent // 100 - self._laid_out, 0)
        return self.storage.to_fill_bytes(percent)

    def fill(self, percent: int, seed: int, watch: ProgressCallback) -> Trace | None:
        """Fill a file system with a second unnamed file, or a device behind the test area."""
        missing = self.to_fill_bytes(percent) // LAYOUT_BLOCK * LAYOUT_BLOCK
        if missing < LAYOUT_BLOCK:
            return None
        work = Workload(
            random=False,
            read_percent=0,
            block_bytes=LAYOUT_BLOCK,
            depth=LAYOUT_DEPTH,
            span_bytes=missing,
            amount_bytes=missing,
            seed=seed,
            fresh=True,
        )
        if self.capacity_bytes() is not None:
            first = self._laid_out // LAYOUT_BLOCK
            trace = self._pass(
                replace(work, fresh=False),
                watch,
                fixed_generation=LAYOUT_GENERATION,
                first_block=first,
            )
            self._laid_out = first * LAYOUT_BLOCK + missing
            self._stamped = None
            return trace
        filler = FileSession(self.storage.folder, self._wanted, seed)
        self._fillers.append(filler)
        filler.prepare(work, watch)
        return filler.run(work, watch)

    def empty(self) -> DiscardResult:
        """Give back the test file, the fill and the copies, and let the drive know."""
        if not self.storage.writable:
            return DiscardResult(0, "there was nothing to discard")
        held = self._laid_out + sum(f._laid_out for f in self._fillers)
        self._copies.close()
        for filler in self._fillers:
            filler.close()
        self._fillers = []
        self._laid_out, self._stamped = 0, None
        if self.capacity_bytes() is None:
            self.storage.empty()
            self.storage.sync()
        return DiscardResult(held, self.storage.discard())

    def copy_size(self, job: CopyJob) -> tuple[int, int]:
        """Return files and bytes of a job (`jovik.base.io_session.Session.copy_size`)."""
        if self.capacity_bytes() is not None:
            raise TargetError(
                f"{self.storage.folder} is a raw device: files are copied to a file system",
                "name a folder on a mounted file system",
            )
        return self._copies.size(job, self.storage.free_bytes())

    def copy(self, job: CopyJob, watch: ProgressCallback) -> Trace:
        """Copy files (`jovik.base.io_session.Session.copy`)."""

        def attended(live: Progress) -> None:
            if squeezed := self.storage.squeezed():
                raise TargetError(squeezed, GIVEN_BACK)
            watch(live)

        return replace(self._copies.run(job, self.storage.free_bytes(), attended), notes=())

    def ceiling_iops(self, work: Workload) -> float | None:
        """IOPS of the loop on a null backend, or on memory where I/O is buffered.

        Measured once for each depth, number of workers and block.
        """
        from jovik.engine.ceiling import memory_iops, null_backend_iops

        key = (work.depth, work.workers, work.block_bytes)
        if key not in self._ceilings:
            if self.direct:
                self._ceilings[key] = null_backend_iops(
                    self._pool_for(work), work.depth, work.workers, CEILING_NS
                )
            else:
                self._ceilings[key] = memory_iops(
                    self._pool_for(work), work.depth, work.workers, work.block_bytes, CEILING_NS
                )
        return self._ceilings[key]

    def threads(self, work: Workload) -> int:
        """Measuring threads of a pass."""
        return self._pool_for(work).threads_for(work)

    def check(self, work: Workload) -> None:
        """Refuse an unsuitable workload (`jovik.base.io_session.Session.check`)."""
        if work.writes and not self.storage.writable:
            raise TargetError(
                f"writing {self.storage.folder} would destroy its content",
                "to allow that, name the sample: --destroy SERIAL",
            )
        if work.verify and not self.storage.writable:
            raise TargetError(
                "only data that Jovik has written carries stamps to verify",
                "leave 'verify' out, or allow writing: --destroy SERIAL",
            )
        sector = self.storage.block_bytes
        if self.direct and work.block_bytes % sector:
            raise TargetError(
                f"{self.storage.folder} takes blocks in multiples of {sector} bytes, not "
                f"{work.block_bytes}",
                f"use a block of {sector}B or a multiple of it",
            )
        threads = self._pool_for(work).threads_for(work)
        if threads > MOST_THREADS:
            raise TargetError(
                f"{threads} blocking calls at once are more than the {MOST_THREADS} threads that "
                "Jovik starts",
                "lower the depth or the workers, or use io_uring",
            )
        if work.span_bytes // work.block_bytes < work.workers:
            raise TargetError(
                f"a span of {work.span_bytes} bytes has no block for each of {work.workers} workers"
            )
        check_memory(work.depth * work.workers, work.block_bytes)
        self.storage.check_space(work.start_bytes + work.span_bytes)

    def to_lay_out_bytes(self, work: Workload) -> int:
        """Return bytes that `prepare` would write."""
        if work.fresh or not self.storage.writable:
            return 0
        if work.verify and self._stamped != (unit_of(work.block_bytes), work.compressible_percent):
            return work.span_bytes
        return max(work.start_bytes + work.span_bytes - self._laid_out, 0)

    def prepare(self, work: Workload, watch: ProgressCallback) -> int:
        """Lay the file out, or give it fresh space (`jovik.base.io_session.Session.prepare`)."""
        if work.fresh:
            self.storage.empty()
            self.storage.reserve(work.span_bytes)
            self._laid_out, self._stamped = 0, None
            return 0
        missing = self.to_lay_out_bytes(work)
        if not missing:
            return 0
        unit = unit_of(work.block_bytes)
        size = -(-work.span_bytes // LAYOUT_BLOCK) * LAYOUT_BLOCK
        first = self._laid_out // LAYOUT_BLOCK if missing < work.span_bytes else 0
        self.storage.reserve(size)
        layout = Workload(
            random=False,
            read_percent=0,
            block_bytes=LAYOUT_BLOCK,
            depth=LAYOUT_DEPTH,
            span_bytes=size - first * LAYOUT_BLOCK,
            amount_bytes=size - first * LAYOUT_BLOCK,
            compressible_percent=work.compressible_percent,
            seed=self.buffers.seed,
        )
        trace = self._pass(
            layout, watch, fixed_generation=LAYOUT_GENERATION, first_block=first, unit=unit
        )
        if trace.first_fault:
            raise fault_error(
                trace.first_fault,
                "while the test file was written for the first time",
                "this step was not measured",
            )
        same = self._stamped in (None, (unit, work.compressible_percent)) if first else True
        self._stamped = (unit, work.compressible_percent) if same else None
        self._laid_out = size
        return trace.written_bytes

    def run(self, work: Workload, watch: ProgressCallback) -> Trace:
        """Return one pass (`jovik.base.io_session.Session.run`)."""
        if work.writes:
            self._stamped = None
        if not work.verify:
            trace = self._pass(work, watch)
        elif work.writes:
            trace = self._verified_write(work, watch)
        else:
            trace = self._pass(work, watch, read_generation=LAYOUT_GENERATION)
        if work.fresh and trace.written_bytes + trace.late_written_bytes >= work.span_bytes:
            self._laid_out = work.span_bytes
        return trace

    def _verified_write(self, work: Workload, watch: ProgressCallback) -> Trace:
        unit = unit_of(work.block_bytes)
        never = 0 if work.fresh else LAYOUT_GENERATION
        generations = np.full(work.span_bytes // unit, never, np.int32)
        trace = self._pass(work, watch, generations=generations)
        if trace.stopped or trace.first_fault:
            return trace
        written = work.span_bytes
        if work.fresh and generations[-1] == never:
            # The time was over before the amount: only what was written can be read back.
            written = (
                int(np.argmin(generations != never)) * unit // work.block_bytes * work.block_bytes
            )
        back = replace(
            work,
            random=False,
            read_percent=100,
            workers=1,
            time_ns=None,
            amount_bytes=written,
            span_bytes=written,
            rate_limit_bytes_s=None,
            durable=False,
            stop_on_error=False,
        )
        if not written:
            return trace
        checked = self._pass(back, watch, generations=generations)
        unreadable = int(checked.slices[:, SLICE_COLUMNS.index("errors")].sum())
        stamps = checked.stamps
        assert stamps is not None
        return replace(trace, stamps=replace(stamps, unreadable=unreadable))

    def _pass(
        self,
        work: Workload,
        watch: ProgressCallback,
        *,
        generations: npt.NDArray[np.int32] | None = None,
        read_generation: int = -1,
        fixed_generation: int = -1,
        first_block: int = 0,
        unit: int | None = None,
    ) -> Trace:
        self.warm_up()
        self.buffers.fit(work.depth * work.workers, work.block_bytes, work.compressible_percent)
        pool = self._pool_for(work)(
            work,
            self.storage.fd,
            self.buffers,
            generations if generations is not None else np.zeros(1, np.int32),
            read_generation=read_generation,
            fixed_generation=fixed_generation,
            first_block=first_block + work.start_bytes // work.block_bytes,
        )
        if unit is not None:
            for part in pool.parts:
                part.cfg[layout.UNIT] = unit
        return self._attended(pool, work, watch)

    def replay(self, job: ReplayJob, watch: ProgressCallback) -> Trace:
        """See `jovik.base.io_session.Session.replay`."""
        self.warm_up()
        if job.recording.writes:
            self._stamped = None
        by_calls = issubclass(self._crew, BlockingPool)
        return self._replays.run(job, self.room_bytes() or CHUNK, watch, by_calls=by_calls)

    def _attended(self, pool: WorkerPool, work: Workload, watch: ProgressCallback) -> Trace:
        """Run a worker pool to completion and return its trace."""
        stalled, interrupted = False, False
        try:
            pool.start()
            stalled = self._attend(pool, watch)
        except TargetError:
            self._keep_if_alive(pool)
            self.empty()
            raise
        except KeyboardInterrupt:
            # A pass that only the user ends has ended well.
            interrupted = not work.endless
            take_notice(continuing=work.endless)
            pool.stop()
            if not pool.wait(GRACE_S):
                pool.stop(layout.ABANDON)
                pool.wait(GRACE_S)
        self._keep_if_alive(pool)
        if pool.failure is not None:
            raise pool.failure
        flush_ns = self._flush() if work.writes and not interrupted and not stalled else 0
        if interrupted:
            raise KeyboardInterrupt
        return trace_of(
            pool,
            work,
            engine=pool.name,
            direct=self.direct,
            flush_ns=flush_ns,
            silent_s=STALL_S if stalled else None,
            has_space=self.storage.has_space(),
            notes=self.notes,
        )

    def _keep_if_alive(self, pool: WorkerPool) -> None:
        """I/O that was left behind may still come: the memory that it goes to must stay."""
        if any(t.is_alive() for t in pool.threads) or pool.total(layout.LEFT_IN_FLIGHT):
            self._kept.append(pool)
            self.buffers = Buffers(self.buffers.seed)

    def _attend(self, pool: WorkerPool, watch: ProgressCallback) -> bool:
        """Watch a pass until it ends. Return True if nothing completes any more."""
        began = time.monotonic()
        last_slice, moved, looked = -1, began, began
        reported, latencies = began, live_latency_ns(pool)
        while not pool.wait(0.1):
            if squeezed := self.storage.squeezed():
                pool.stop(layout.ABANDON)
                pool.wait(1.0)
                raise TargetError(squeezed, GIVEN_BACK)
            at = time.monotonic()
            if at - looked > STANDSTILL_S:
                # This process was suspended: the drive may not have had any request.
                moved = at
            looked = at
            if at - reported > LATENCY_EVERY_S:
                reported = at
                latencies = live_latency_ns(pool)
            live, completed = progress_of(pool, at - began, latencies)
            if completed != last_slice:
                last_slice, moved = completed, at
            elif at - moved > STALL_S:
                pool.stop(layout.ABANDON)
                pool.wait(1.0)
                return True
            watch(live)
        return False

    def _flush(self) -> int:
        """Time a cache flush, in a thread so that a hung drive cannot hold the run."""
        began = time.monotonic_ns()
        ended: list[int] = []

        def flush() -> None:
            self.storage.sync()
            ended.append(time.monotonic_ns())

        thread = threading.Thread(target=flush, daemon=True)
        thread.start()
        thread.join(STALL_S * 2)
        return (ended or [time.monotonic_ns()])[0] - began
