"""A session on a model drive: the same protocol as an engine, on a virtual clock."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from jovik import buckets
from jovik.errors import TargetRefused
from jovik.model.catalogue import ModelDrive
from jovik.protocol import Live, Watch, Workload
from jovik.results import SLICE_COLUMNS, SLICE_NS, Latencies, StampFaults, Trace
from jovik.units import show_size

LATENCY_SAMPLES = 4000
"""Latencies drawn for a pass; their shares are then given to all its I/Os."""
GLANCES = 4
"""How often a pass is shown in progress: virtual time passes too quickly for more."""


class ModelSession:
    """Passes on a model drive; see `jovik.protocol.Session`.

    The clock and the fill of the write cache go on from pass to pass; noise comes from the workload's seed, so a pass
    can be repeated exactly.
    """

    engine = "model"
    direct = True
    notes: tuple[str, ...] = ("simulated: a model drive",)

    def __init__(self, drive: ModelDrive) -> None:
        self.drive = drive
        self.clock_ns = 0
        self.cached_bytes = 0.0
        self._laid_out = 0

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
        """Nothing to give back."""

    def ceiling_iops(self, work: Workload) -> float | None:
        """Nothing real, no ceiling."""
        return None

    def threads(self, work: Workload) -> int:
        """As for an engine with a thread for each worker."""
        return work.workers

    def fill_percent(self) -> float | None:
        """How much of the capacity the test file takes."""
        return 100.0 * self._laid_out / self.drive.behaviour.capacity

    def check(self, work: Workload) -> None:
        """Refuse a span larger than the drive."""
        capacity = self.drive.behaviour.capacity
        if work.span_bytes > capacity:
            raise TargetRefused(
                f"the model drive {self.drive.name} holds {show_size(capacity)}; this needs {show_size(work.span_bytes)}",
                "add 'within SPAN' to the phrase, or write less",
            )

    def to_lay_out_bytes(self, work: Workload) -> int:
        """Bytes that `prepare` would write."""
        return 0 if work.fresh else max(work.span_bytes - self._laid_out, 0)

    def prepare(self, work: Workload, watch: Watch) -> int:
        """Lay out what is missing: it takes time and fills the write cache, as on a real drive."""
        missing = self.to_lay_out_bytes(work)
        if missing:
            layout = Workload(
                random=False, read_percent=0, block_bytes=2**20, depth=8, span_bytes=missing, amount_bytes=missing, seed=work.seed
            )  # fmt: skip
            self._simulate(layout, np.random.default_rng([work.seed, 1]), watch)
        self._laid_out = work.span_bytes if work.fresh else max(self._laid_out, work.span_bytes)
        return missing

    def run(self, work: Workload, watch: Watch) -> Trace:
        """One pass; see `jovik.protocol.Session.run`."""
        rng = np.random.default_rng([work.seed])
        slices, elapsed = self._simulate(work, rng, watch)
        flush = self.drive.behaviour.flush_time if work.writes else 0
        self._advance(flush)
        checked = StampFaults(work.span_bytes // 4096, 0, 0, 0) if work.verify else None
        return Trace(
            engine=self.engine,
            direct=self.direct,
            seed=work.seed,
            elapsed_ns=elapsed,
            flush_ns=flush,
            cpu_ns=0,
            slices=slices,
            latencies=self._latencies(work, slices, elapsed, rng),
            stamps=checked,
            notes=self.notes,
        )

    def _advance(self, time_ns: int) -> None:
        """Let time pass without writes: the cache drains."""
        self.clock_ns += time_ns
        self.cached_bytes = max(0.0, self.cached_bytes - self.drive.behaviour.drain_rate * time_ns / 1e9)

    def _simulate(self, work: Workload, rng: np.random.Generator, watch: Watch) -> tuple[npt.NDArray[np.int64], int]:
        """The slices of a pass and its length, nanoseconds."""
        parameters = self.drive.behaviour
        luck = math.exp(rng.normal(0, parameters.pass_spread))
        total_ios = work.amount_bytes // work.block_bytes if work.amount_bytes is not None else None
        end_ns = work.time_ns
        writing = 1 - work.read_percent / 100
        rows: list[tuple[float, float]] = []
        done, at = 0.0, 0.0
        glance = (end_ns or 0) / GLANCES
        while (end_ns is None or at < end_ns) and (total_ios is None or done < total_ios):
            span = SLICE_NS if end_ns is None else min(SLICE_NS, end_ns - at)
            noise = luck * math.exp(rng.normal(0, parameters.slice_spread))
            ios, used = self._serve(work, span, noise, total_ios - done if total_ios is not None else math.inf)
            rows.append((ios, used))
            done += ios
            at += used
            self.clock_ns += round(used)
            if not writing:
                self.cached_bytes = max(0.0, self.cached_bytes - parameters.drain_rate * used / 1e9)
            if glance and at >= glance:
                watch(Live(round(at), round(done * work.block_bytes), ios * work.block_bytes / used * 1e9))
                glance += (end_ns or 0) / GLANCES
        slices = np.zeros((len(rows), len(SLICE_COLUMNS)), np.int64)
        # Whole I/Os only: the running total is rounded, so that nothing is lost or counted twice.
        ios_so_far = np.rint(np.cumsum([r[0] for r in rows])).astype(np.int64)
        per_slice = np.diff(ios_so_far, prepend=0)
        reads = np.rint(per_slice * (1 - writing)).astype(np.int64)
        for base, ios_of in ((0, reads), (2, per_slice - reads)):
            slices[:, base] = ios_of * work.block_bytes
            slices[:, base + 1] = ios_of
        return slices, round(at)

    def _serve(self, work: Workload, span_ns: float, noise: float, most_ios: float) -> tuple[float, float]:
        """I/Os served in a span of time and the time they took, which is less where the work ran out.

        The write cache may fill on the way; then the rest of the span runs at the direct rate.
        """
        parameters = self.drive.behaviour
        writing = 1 - work.read_percent / 100
        ios, used = 0.0, 0.0
        for cached in (True, False):
            if used >= span_ns or ios >= most_ios:
                break
            rate = parameters.iops(work, cached=cached) * noise
            if work.rate_limit_bytes_s is not None:
                rate = min(rate, work.rate_limit_bytes_s / work.block_bytes)
            room = math.inf
            if cached and writing:
                if parameters.cache_size == 0:
                    continue
                room = max(parameters.cache_size - self.cached_bytes, 0.0) / (work.block_bytes * writing)
            served = min(rate * (span_ns - used) / 1e9, most_ios - ios, room)
            ios += served
            used += served / rate * 1e9
            if cached:
                self.cached_bytes += served * work.block_bytes * writing
                if served < room:
                    break
        return ios, max(used, 1.0)

    def _latencies(
        self, work: Workload, slices: npt.NDArray[np.int64], elapsed_ns: int, rng: np.random.Generator
    ) -> dict[str, Latencies]:  # fmt: skip
        """Latencies spread around the mean that Little's law gives (in flight = rate x latency)."""
        parameters = self.drive.behaviour
        whole = int(slices[:, [1, 3]].sum())
        found = {}
        for name, column in (("read", 1), ("write", 3)):
            ios = int(slices[:, column].sum())
            if not ios:
                continue
            mean = work.depth * work.workers * elapsed_ns / whole
            if work.rate_limit_bytes_s is not None:
                mean = min(mean, parameters.service_ns(work, parameters.write_rate))
            sigma = parameters.latency_spread
            drawn = mean * np.exp(rng.normal(-sigma * sigma / 2, sigma, LATENCY_SAMPLES))
            # One I/O in five hundred waits for something else in the drive.
            drawn[rng.random(LATENCY_SAMPLES) < 0.002] *= 8
            drawn *= mean / drawn.mean()
            shares = np.bincount(buckets.bucket_of(drawn.astype(np.int64)), minlength=buckets.COUNT) / LATENCY_SAMPLES
            counts = rng.multinomial(ios, shares).astype(np.int64)
            hit = np.flatnonzero(counts)
            low, high = int(buckets.LOW_NS[hit[0]]), int(buckets.HIGH_NS[hit[-1]] - 1)
            total = float((counts * buckets.MIDDLE_NS).sum())
            found[name] = Latencies(counts, low, high, round(min(max(total, low * ios), high * ios)))
        return found
