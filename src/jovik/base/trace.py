"""A trace: the record of one pass.

Everything that Jovik says about speed is computed from traces.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from jovik.base.histogram import MIDDLE_NS

SLICE_NS = 100_000_000
"""Length of a time slice of a trace, nanoseconds."""

SLICE_COLUMNS = ("read_bytes", "read_ios", "written_bytes", "write_ios", "errors")
"""Columns of `Trace.slices`."""


@dataclass(frozen=True)
class Latencies:
    """The latencies of one direction of a pass.

    `counts` has shape ``(histogram.COUNT,)``; minimum, maximum and sum are exact.
    """

    counts: npt.NDArray[np.int64]
    minimum_ns: int
    maximum_ns: int
    sum_ns: int

    @property
    def total(self) -> int:
        """Number of I/Os counted."""
        return int(self.counts.sum())

    @staticmethod
    def merged(parts: Iterable[Latencies]) -> Latencies | None:
        """Merge several passes or directions into one, or return None without any."""
        # One after the other: thousands of passes need not be in memory together.
        whole: Latencies | None = None
        for part in parts:
            whole = part if whole is None else Latencies.sum_of(whole, part)
        return whole

    @staticmethod
    def sum_of(one: Latencies, other: Latencies) -> Latencies:
        """Return two of them as one."""
        return Latencies(
            one.counts + other.counts,
            min(one.minimum_ns, other.minimum_ns),
            max(one.maximum_ns, other.maximum_ns),
            one.sum_ns + other.sum_ns,
        )

    def percentile_ns(self, share: float) -> float:
        """Return the latency that this fraction of I/Os does not exceed, within 1 %.

        Parameters
        ----------
        share : float
            From 0 to 1.
        """
        rank = max(int(np.ceil(share * self.total)), 1)
        bucket = int(np.searchsorted(np.cumsum(self.counts), rank))
        return float(min(max(MIDDLE_NS[bucket], self.minimum_ns), self.maximum_ns))


MOST_PLACES = 32
"""Failed blocks that a thread keeps in a pass."""


@dataclass(frozen=True, order=True)
class FailedPlace:
    """A block whose read or write failed: its first byte, its length, and the direction."""

    offset_bytes: int
    length_bytes: int
    direction: str


@dataclass(frozen=True)
class IoFault:
    """The first error of a pass: its kind, its place and its time.

    `confirmed_bytes` is where the last write that the drive confirmed in this pass ended. `places`
    are the distinct blocks that failed in the whole pass, at most 32 of each thread, in order.
    """

    errno: int
    what: str
    offset_bytes: int
    direction: str
    after_ns: int
    confirmed_bytes: int | None = None
    places: tuple[FailedPlace, ...] = ()


@dataclass(frozen=True)
class StampFaults:
    """The result of reading stamps back: blocks checked, and those that were not intact."""

    checked: int
    wrong: int
    stale: int
    unreadable: int
    first_offsets_bytes: tuple[int, ...] = ()

    @property
    def bad(self) -> int:
        """Blocks that did not come back as they were written."""
        return self.wrong + self.stale + self.unreadable


@dataclass(frozen=True)
class PassSurroundings:
    """Conditions around a pass. Fractions are of all cores, or None if unknown.

    `temperatures` holds (seconds since the pass began, degrees Celsius by sensor).
    """

    busy: float | None = None
    own: float | None = None
    stolen: float | None = None
    other_bytes: int | None = None
    temperatures: tuple[tuple[float, dict[str, float]], ...] = ()


@dataclass(frozen=True)
class ScanRecord:
    """The zones of a scan in order of address: a rate of 0 if nothing could be read.

    `access_ns` is within each zone; `whole_access_ns` the mean of single reads anywhere in the
    whole span, one for each of several batches.
    """

    start_bytes: tuple[int, ...]
    zone_bytes: int
    rate_bytes_s: tuple[float, ...]
    access_ns: tuple[float | None, ...]
    errors: tuple[int, ...]
    whole_ns: int = 0
    whole_access_ns: tuple[float, ...] = ()


@dataclass(frozen=True)
class CopyRecord:
    """The files of a copy, and the times of its final sync and of reading its source."""

    files: int
    bytes: int
    sync_ns: int
    source_ns: int = 0
    laid_out_bytes: int = 0


@dataclass(frozen=True)
class ReplayRecord:
    """The record of a replay.

    `elapsed_ns` is with what the program did after its last request, `waited_ns` while at least one
    request was in flight; `late` are requests of a paced replay that came more than 1 ms after
    their time, `late_ns` by how much together; the overheads were taken off each recorded
    think time after a completion: how much longer a request takes to a program than to the drive,
    which a replay has again. `overhead_from_ns` and `overhead_to_ns` hold what it was before the
    pass and after it, reads and writes alike; `busy` if that was too uncertain to be used. The
    recorded figures stand beside them.
    """

    requests: int
    elapsed_ns: int
    waited_ns: int
    recorded_ns: int
    recorded_waited_ns: int
    late: int = 0
    late_ns: int = 0
    overhead_read_ns: int = 0
    overhead_write_ns: int = 0
    overhead_from_ns: int = 0
    overhead_to_ns: int = 0
    busy: bool = False


@dataclass(frozen=True)
class Trace:
    """The record of one pass.

    `slices` has shape ``(n, 5)``, the columns of `SLICE_COLUMNS`, one row for each `SLICE_NS`. Only
    I/Os that were complete when the pass's time was over count there; those still in flight then
    are in `late_written_bytes`. `facts` holds what only some sorts of step record (the zones of a
    scan, the sync of a copy), as plain JSON.
    """

    engine: str
    direct: bool
    seed: int
    elapsed_ns: int
    flush_ns: int
    cpu_ns: int
    slices: npt.NDArray[np.int64]
    latencies: dict[str, Latencies]
    late_written_bytes: int = 0
    first_fault: IoFault | None = None
    stamps: StampFaults | None = None
    stopped: bool = False
    notes: tuple[str, ...] = ()
    environment: PassSurroundings | None = None
    scan: ScanRecord | None = None
    copy: CopyRecord | None = None
    replay: ReplayRecord | None = None

    @classmethod
    def empty(cls, engine: str, direct: bool, elapsed_ns: int) -> Trace:
        """Return the trace of a step that did no I/O that counts."""
        slices = np.zeros((1, len(SLICE_COLUMNS)), np.int64)
        return cls(engine, direct, 0, elapsed_ns, 0, 0, slices, {})

    @cached_property
    def _sums(self) -> dict[str, int]:
        """Return the sum of each column of the slices."""
        return dict(zip(SLICE_COLUMNS, self.slices.sum(axis=0).tolist(), strict=True))

    def _sum(self, column: str) -> int:
        return self._sums[column]

    @property
    def read_bytes(self) -> int:
        """Return bytes read within the pass."""
        return self._sum("read_bytes")

    @property
    def written_bytes(self) -> int:
        """Return bytes written within the pass."""
        return self._sum("written_bytes")

    @property
    def ios(self) -> int:
        """Return I/Os completed within the pass, both directions."""
        return self._sum("read_ios") + self._sum("write_ios")

    @property
    def errors(self) -> int:
        """Return I/Os that failed or came back short, and blocks that were not as written."""
        return self._sum("errors") + (self.stamps.bad if self.stamps else 0)

    @property
    def broken(self) -> bool:
        """Return True if an I/O failed, or data did not come back as it was written."""
        return self.first_fault is not None or (self.stamps is not None and self.stamps.bad > 0)

    @property
    def rate_bytes_s(self) -> float:
        """Throughput of both directions, without the flush at the end."""
        return (
            (self.read_bytes + self.written_bytes) / self.elapsed_ns * 1e9
            if self.elapsed_ns
            else 0.0
        )

    @property
    def flushed_rate_bytes_s(self) -> float:
        """Throughput with the flush at the end counted as part of the time."""
        whole = self.elapsed_ns + self.flush_ns
        return (self.read_bytes + self.written_bytes) / whole * 1e9 if whole else 0.0

    @property
    def iops(self) -> float:
        """Return I/Os a second, both directions."""
        return self.ios / self.elapsed_ns * 1e9 if self.elapsed_ns else 0.0


def scan_trace(parts: Sequence[Trace], record: ScanRecord, faults: Sequence[IoFault]) -> Trace:
    """Return all stretches as one pass, its time that of the stretches without the single reads."""
    places = tuple(sorted({p for f in faults for p in f.places}))
    fault = next((t.first_fault for t in parts if t.first_fault is not None), None)
    slices = np.zeros((len(parts), len(SLICE_COLUMNS)), np.int64)
    for row, part in enumerate(parts):
        slices[row] = part.slices.sum(axis=0)
    whole = Latencies.merged(t.latencies["read"] for t in parts if "read" in t.latencies)
    return Trace(
        engine=parts[0].engine,
        direct=parts[0].direct,
        seed=parts[0].seed,
        elapsed_ns=sum(t.elapsed_ns for t in parts),
        flush_ns=0,
        cpu_ns=sum(t.cpu_ns for t in parts),
        slices=slices,
        latencies={} if whole is None else {"read": whole},
        first_fault=replace(fault, places=places) if fault is not None else None,
        notes=parts[0].notes,
        scan=record,
    )
