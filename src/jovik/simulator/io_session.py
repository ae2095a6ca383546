"""A session on a model drive: the same protocol as an engine, on a virtual clock."""

from __future__ import annotations

import errno
import math
import os
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from jovik.base.errors import TargetError
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
from jovik.base.limits import MODEL_PASS_NS
from jovik.base.quantities import show_size, show_time
from jovik.base.trace import (
    MOST_PLACES,
    SLICE_COLUMNS,
    SLICE_NS,
    CopyRecord,
    FailedPlace,
    IoFault,
    PassSurroundings,
    StampFaults,
    Trace,
)
from jovik.hardware.source_files import files_in
from jovik.simulator.catalogue import ModelDrive
from jovik.simulator.drive_state import RateNoise, State
from jovik.simulator.latency_model import latencies
from jovik.simulator.parameters import UnreadableRange
from jovik.simulator.replay import latencies_of, record_of, replayed, slices_of

PROGRESS_CALLS = 4
"""How often a pass is shown in progress: virtual time passes too quickly for more."""
ENDLESS_NS = 3600 * 10**9
"""The duration of 'until stopped', because nobody can stop virtual time."""
KEPT_FREE = 0.01
TEMPERATURE_EVERY_NS = 10**9


@dataclass
class ModelSeries:
    """The slices of a pass as they grow: I/Os and time of each, and the temperatures met."""

    ios: list[float]
    used_ns: list[float]
    temperatures: list[tuple[float, dict[str, float]]]
    fault: IoFault | None = None
    errors: int = 0
    places: set[FailedPlace] = field(default_factory=set)

    @property
    def elapsed_ns(self) -> int:
        """Return all time together."""
        return round(sum(self.used_ns))


class ModelSession:
    """Passes on a model drive, as a `jovik.base.io_session.Session`.

    The clock, the fill of the write cache and the heat go on from pass to pass; noise comes from
    the workload's seed, so a pass can be repeated exactly.
    """

    engine = "model"
    direct = True
    notes: tuple[str, ...] = ("simulated: a model drive",)

    def __init__(self, drive: ModelDrive) -> None:
        self.drive = drive
        self.state = State(drive.behaviour)
        self._laid_out = 0
        self._filled = 0
        self._copied: tuple[int, ...] = ()
        self._of_run: float | None = None
        self._of_pass = 0.0

    def now_ns(self) -> int:
        """Return the virtual clock."""
        return self.state.clock_ns

    def wait(self, time_ns: int) -> None:
        """Let virtual time pass: the cache drains and the drive cools."""
        self.state.idle(time_ns)

    def temperatures_c(self) -> dict[str, float]:
        """Of the model's sensors."""
        return self.state.temperatures_c()

    def warm_up(self) -> None:
        """Nothing to do."""

    def engine_for(self, work: Workload) -> str:
        """There is one."""
        return self.engine

    def __enter__(self) -> ModelSession:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """Nothing to discard."""

    def ceiling_iops(self, work: Workload) -> float | None:
        """Nothing real, no ceiling."""
        return None

    def threads(self, work: Workload) -> int:
        """As for an engine with a thread for each worker."""
        return work.workers

    def fill_percent(self) -> float | None:
        """Return how much of the capacity is taken."""
        return self.state.fill_percent

    def free_bytes(self) -> int | None:
        """Return the free bytes, except for a small reserve."""
        capacity = self.drive.behaviour.capacity
        return max(round(capacity * (1 - KEPT_FREE)) - self._filled - sum(self._copied), 0)

    def room_bytes(self) -> int | None:
        """Return all of the space but a little."""
        return self.free_bytes()

    def check_purge(self) -> None:
        """Allow every purge of a model drive."""

    def purge(self) -> PurgeResult:
        """As new: nothing is valid any more, and no block is half full."""
        self._laid_out = self._filled = 0
        self._copied = ()
        self.state.purge()
        self.state.idle(self.drive.behaviour.purge_time)
        return PurgeResult("user data erase", "done")

    def wear_bytes(self) -> WearCounters | None:
        """Return its own counters, with its flash only if garbage collection is modelled."""
        state = self.state
        flash = round(state.flash_bytes) if self.drive.behaviour.flash_size else None
        return WearCounters(round(state.host_bytes), flash)

    def capacity_bytes(self) -> int | None:
        """Return the capacity, because a model drive has no file system."""
        return self.drive.behaviour.capacity

    def check(self, work: Workload) -> None:
        """Refuse a span larger than the drive."""
        capacity = self.drive.behaviour.capacity
        needed = work.start_bytes + work.span_bytes
        if needed > capacity:
            raise TargetError(
                f"the model drive {self.drive.name} holds {show_size(capacity)}; this needs "
                f"{show_size(needed)}",
                "add 'within SPAN' to the phrase, or write less",
            )
        if work.time_ns is not None and work.time_ns > MODEL_PASS_NS:
            raise _too_long()

    def to_lay_out_bytes(self, work: Workload) -> int:
        """Return the bytes that `prepare` would write. A scan reads a model drive as it is."""
        if work.fresh or work.start_bytes or work.span_bytes > self.drive.behaviour.capacity // 2:
            return 0
        return max(work.span_bytes - self._laid_out, 0)

    def prepare(self, work: Workload, watch: ProgressCallback) -> int:
        """Lay out missing parts: it takes time and fills the write cache, as on a real drive."""
        missing = self.to_lay_out_bytes(work)
        if missing:
            self._simulate(
                _stream(missing, work.seed), np.random.default_rng([work.seed, 1]), watch
            )
        self._laid_out = (
            work.span_bytes if work.fresh else max(self._laid_out, missing + self._laid_out)
        )
        self._count_used()
        return missing

    def _count_used(self) -> None:
        self.state.used_bytes = self._laid_out + self._filled + sum(self._copied)

    def run(self, work: Workload, watch: ProgressCallback) -> Trace:
        """Return one pass (`jovik.base.io_session.Session.run`)."""
        rng = np.random.default_rng([work.seed])
        series = self._simulate(
            replace(work, time_ns=ENDLESS_NS) if work.endless else work,
            rng,
            watch,
            self._factor(work.seed),
        )
        flush = self.drive.behaviour.flush_time if work.writes else 0
        self.state.idle(flush)
        slices = _slices(work, series)
        if work.writes and not work.fresh:
            # A span too large to be laid out beforehand is taken by being written.
            self._laid_out = max(self._laid_out, min(int(slices[:, 2].sum()), work.span_bytes))
            self._count_used()
        return Trace(
            engine=self.engine,
            direct=self.direct,
            seed=work.seed,
            elapsed_ns=series.elapsed_ns,
            flush_ns=flush,
            cpu_ns=0,
            slices=slices,
            latencies=latencies(self.drive.behaviour, work, slices, series.elapsed_ns, rng),
            first_fault=replace(series.fault, places=tuple(sorted(series.places)))
            if series.fault is not None
            else None,
            stamps=self._stamps(work) if work.verify else None,
            notes=self.notes,
            environment=PassSurroundings(temperatures=tuple(series.temperatures))
            if series.temperatures
            else None,
        )

    def _factor(self, seed: int) -> float:
        """Return this pass's rate relative to the usual one, as drawn for the run and the pass."""
        behaviour = self.drive.behaviour
        if not behaviour.run_spread and not behaviour.pass_memory:
            return 1.0
        rng = np.random.default_rng([seed, 3])
        first = self._of_run is None
        if self._of_run is None:
            self._of_run = float(rng.normal())
        memory = behaviour.pass_memory
        if memory:
            keep = 0.0 if first else memory
            self._of_pass = keep * self._of_pass + math.sqrt(1 - keep * keep) * float(rng.normal())
        own = behaviour.pass_spread * self._of_pass if memory else 0.0
        return math.exp(behaviour.run_spread * self._of_run + own)

    def _stamps(self, work: Workload) -> StampFaults:
        """Return the result of reading back.

        On a drive that holds less than it says, what came later lies where the first was.
        """
        held = self.drive.behaviour.real_capacity or self.drive.behaviour.capacity
        begin = self._filled + sum(self._copied)
        lost = min(max(begin + work.span_bytes - held, 0), work.span_bytes)
        where = tuple(range(0, min(lost, 8 * 4096), 4096))
        return StampFaults(work.span_bytes // 4096, lost // 4096, 0, 0, where)

    def _simulate(
        self,
        work: Workload,
        rng: np.random.Generator,
        watch: ProgressCallback,
        factor: float = 1.0,
    ) -> ModelSeries:
        """Return the slices of a pass. `factor` scales its rate."""
        luck = RateNoise(self.drive.behaviour, rng)
        total = work.amount_bytes / work.block_bytes if work.amount_bytes is not None else math.inf
        total = math.floor(total) if math.isfinite(total) else total
        end_ns = work.time_ns if work.time_ns is not None else math.inf
        bad = _BadPlaces(self.drive.behaviour.bad, work)
        series = ModelSeries([], [], [])
        state, done, at = self.state, 0.0, 0.0
        state.begin()
        glance = (end_ns if math.isfinite(end_ns) else 0) / PROGRESS_CALLS
        measured_at = -math.inf
        heated = self.drive.behaviour.heat is not None
        while at < end_ns and done < total and not (series.fault and work.stop_on_error):
            # After an hour its pace tells, before millions of slices are in memory.
            needed = total * at / MODEL_PASS_NS if math.isfinite(total) else 0.0
            if at > MODEL_PASS_NS or (at > ENDLESS_NS and done < needed):
                raise _too_long()
            if heated and at >= measured_at + TEMPERATURE_EVERY_NS:
                measured_at = at
                series.temperatures.append((at / 1e9, state.temperatures_c()))
            position = work.start_bytes + (
                done * work.block_bytes % work.span_bytes
                if not work.random
                else work.span_bytes / 2
            )
            ios, used = state.serve(
                work, min(SLICE_NS, end_ns - at), factor * luck.next(), total - done, position
            )
            if bad.any:
                bad.meet(series, work, done, ios, at, rng)
            series.ios.append(ios)
            series.used_ns.append(used)
            done += ios
            at += used
            if glance and at >= glance:
                warm = max(state.temperatures_c().values(), default=None)
                moved = round(done * work.block_bytes)
                lately, written = (
                    ios * work.block_bytes / used * 1e9,
                    moved * (100 - work.read_percent) // 100,
                )
                watch(
                    Progress(
                        round(at),
                        moved,
                        lately,
                        series.errors,
                        temperature_c=warm,
                        written_bytes=written,
                    )
                )
                glance += (end_ns if math.isfinite(end_ns) else 0) / PROGRESS_CALLS
        return series

    def replay(self, job: ReplayJob, watch: ProgressCallback) -> Trace:
        """See `jovik.simulator.replay`."""
        rng = np.random.default_rng([job.seed, 4])
        replay = replayed(self.state, job, rng)
        slices = slices_of(job.recording, replay)
        elapsed = int(replay.done_ns.max(initial=1))
        self.state.age(elapsed)
        return Trace(
            engine=self.engine,
            direct=self.direct,
            seed=job.seed,
            elapsed_ns=elapsed,
            flush_ns=0,
            cpu_ns=0,
            slices=slices,
            latencies=latencies_of(job.recording, replay),
            notes=self.notes,
            replay=record_of(job, replay),
        )

    def to_fill_bytes(self, percent: int) -> int:
        """Return bytes that `fill` would write."""
        return max(round(self.drive.behaviour.capacity * percent / 100 - self.state.used_bytes), 0)

    def fill(self, percent: int, seed: int, watch: ProgressCallback) -> Trace | None:
        """Write until it is so full."""
        missing = self.to_fill_bytes(percent)
        if missing < 2**20:
            return None
        work = _stream(missing, seed)
        series = self._simulate(work, np.random.default_rng([seed]), watch)
        self._filled += missing
        self._count_used()
        return Trace(
            self.engine,
            self.direct,
            seed,
            series.elapsed_ns,
            0,
            0,
            _slices(work, series),
            {},
            notes=self.notes,
        )

    def empty(self) -> DiscardResult:
        """Return all of it, and the drive knows: its cache is folded away."""
        freed = self._laid_out + self._filled + sum(self._copied)
        self._laid_out = self._filled = 0
        self._copied = ()
        self._count_used()
        self.state.cached_bytes = self.state.past_cache_bytes = 0.0
        return DiscardResult(freed)

    def copy_size(self, job: CopyJob) -> tuple[int, int]:
        """Return files and bytes of a job."""
        sizes = _sizes(job)
        total = sum(sizes)
        if total > (self.free_bytes() or 0) + sum(self._copied):
            raise TargetError(
                f"the model drive {self.drive.name} has no room for {show_size(total)}", "copy less"
            )
        return len(sizes), total

    def copy(self, job: CopyJob, watch: ProgressCallback) -> Trace:
        """Return files as a stream that pays for each file.

        Copying out reads what was put there first.
        """
        _, total = self.copy_size(job)
        sizes = _sizes(job)
        behaviour = self.drive.behaviour
        laid_out = 0
        if not job.inward and self._copied != sizes:
            self._simulate(_stream(total, job.seed), np.random.default_rng([job.seed, 2]), watch)
            laid_out = total
        self._copied = sizes
        began = self.state.clock_ns
        block = max(min(2**20, max(sizes, default=2**20)) // 512 * 512, 512)
        work = replace(
            _stream(total, job.seed),
            read_percent=0 if job.inward else 100,
            block_bytes=block,
            depth=4,
        )
        work = replace(work, seed=job.seed + began)
        series = self._simulate(work, np.random.default_rng([work.seed]), watch)
        # Making the files comes on top, spread evenly over the copy.
        extra = behaviour.file_time * len(sizes) * (1.0 if job.inward else 0.3)
        stretch = 1 + extra / max(series.elapsed_ns, 1)
        flush = behaviour.flush_time if job.inward else 0
        self.state.idle(extra + flush)
        self._count_used()
        elapsed = round(series.elapsed_ns * stretch) + flush
        slices = _resample(
            np.asarray(series.ios) * block,
            np.asarray(series.used_ns) * stretch,
            elapsed,
            total,
            len(sizes),
            inward=job.inward,
        )
        return Trace(
            self.engine,
            self.direct,
            work.seed,
            elapsed,
            0,
            0,
            slices,
            {},
            notes=self.notes,
            copy=CopyRecord(len(sizes), total, flush, laid_out_bytes=laid_out),
        )


def _stream(amount_bytes: int, seed: int) -> Workload:
    """Return an amount written in order, as prefilling and filling do."""
    block = 2**20 if amount_bytes >= 2**20 else 512
    return Workload(
        random=False,
        read_percent=0,
        block_bytes=block,
        depth=8,
        span_bytes=max(amount_bytes, block),
        amount_bytes=amount_bytes,
        seed=seed,
    )


def _sizes(job: CopyJob) -> tuple[int, ...]:
    return job.sizes if job.folder is None else tuple(f.size_bytes for f in files_in(job.folder))


def _slices(work: Workload, series: ModelSeries) -> npt.NDArray[np.int64]:
    """Whole I/Os only: the running total is rounded, so that nothing is lost or counted twice."""
    slices = np.zeros((max(len(series.ios), 1), len(SLICE_COLUMNS)), np.int64)
    if not series.ios:
        return slices
    so_far = np.rint(np.cumsum(series.ios)).astype(np.int64)
    per_slice = np.diff(so_far, prepend=0)
    reads = np.rint(per_slice * (work.read_percent / 100)).astype(np.int64)
    for base, ios_of in ((0, reads), (2, per_slice - reads)):
        slices[: len(per_slice), base] = ios_of * work.block_bytes
        slices[: len(per_slice), base + 1] = ios_of
    slices[-1, 4] = series.errors
    return slices


def _resample(
    moved: npt.NDArray[np.float64],
    used_ns: npt.NDArray[np.float64],
    elapsed_ns: int,
    total_bytes: int,
    files: int,
    *,
    inward: bool,
) -> npt.NDArray[np.int64]:
    """Return stretched slices on the grid of `SLICE_NS`. Files follow the bytes evenly."""
    ends = np.concatenate([[0.0], np.cumsum(used_ns)])
    reached = np.concatenate([[0.0], np.cumsum(moved)])
    rows = max(-(-elapsed_ns // SLICE_NS), 1)
    grid = np.minimum(np.arange(rows + 1) * SLICE_NS, elapsed_ns)
    at = np.interp(grid, ends, reached) * (total_bytes / reached[-1] if reached[-1] else 0)
    slices = np.zeros((rows, len(SLICE_COLUMNS)), np.int64)
    base = 2 if inward else 0
    slices[:, base] = np.diff(np.rint(at).astype(np.int64))
    slices[:, base + 1] = np.diff(np.rint(at / max(total_bytes, 1) * files).astype(np.int64))
    return slices


class _BadPlaces:
    """Areas that cannot be read, and meeting them."""

    def __init__(self, bad: list[UnreadableRange], work: Workload) -> None:
        begin, end = work.start_bytes, work.start_bytes + work.span_bytes
        self.areas = (
            [
                (max(b.at, begin), min(b.at + b.length, end))
                for b in bad
                if b.at < end and b.at + b.length > begin
            ]
            if work.reads
            else []
        )
        self.any = bool(self.areas)

    def meet(
        self,
        series: ModelSeries,
        work: Workload,
        done: float,
        ios: float,
        at_ns: float,
        rng: np.random.Generator,
    ) -> None:
        """Count the reads of a slice that fell on a bad place.

        The first stops the pass where errors do.
        """
        reads, block = work.read_percent / 100, work.block_bytes
        hit: list[int] = []
        for low, high in self.areas:
            first, last = low // block, (high - 1) // block
            if work.random:
                share = (high - low + block) / work.span_bytes
                hits = int(rng.binomial(max(round(ios * reads), 0), min(share, 1.0)))
                hit += rng.integers(first, last + 1, hits).tolist()
            else:
                start = work.start_bytes // block + math.floor(done) % (work.span_bytes // block)
                hit += range(max(start, first), min(start + math.ceil(ios), last + 1))
        series.errors += len(hit)
        room = MOST_PLACES - len(series.places)
        series.places |= {FailedPlace(n * block, block, "read") for n in hit[: max(room, 0)]}
        if hit and series.fault is None:
            why = os.strerror(errno.EIO)
            series.fault = IoFault(errno.EIO, why, hit[0] * block, "read", round(at_ns))


def _too_long() -> TargetError:
    return TargetError(
        f"a pass on a model drive lasts at most {show_time(MODEL_PASS_NS)} of its clock",
        "add 'for TIME' to the phrase, or make its amount smaller",
    )
