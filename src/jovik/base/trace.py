"""A trace: what one pass recorded.

Everything that Jovik says about speed is computed from traces.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

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


@dataclass(frozen=True)
class IoFault:
    """The first error of a pass: what, where and when."""

    errno: int
    what: str
    offset_bytes: int
    direction: str
    after_ns: int


@dataclass(frozen=True)
class StampFaults:
    """What reading stamps back found: blocks checked, and those that were not as written."""

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
class Environment:
    """What went on around a pass. Shares are of 1, of all cores; None where it cannot be told.

    `temperatures` holds (seconds since the pass began, degrees Celsius by sensor).
    """

    busy: float | None = None
    own: float | None = None
    stolen: float | None = None
    other_bytes: int | None = None
    temperatures: tuple[tuple[float, dict[str, float]], ...] = ()


@dataclass(frozen=True)
class Trace:
    """What one pass recorded.

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
    environment: Environment | None = None
    facts: dict[str, Any] = field(default_factory=dict)

    def _sum(self, column: str) -> int:
        return int(self.slices[:, SLICE_COLUMNS.index(column)].sum())

    @property
    def read_bytes(self) -> int:
        """Bytes read within the pass."""
        return self._sum("read_bytes")

    @property
    def written_bytes(self) -> int:
        """Bytes written within the pass."""
        return self._sum("written_bytes")

    @property
    def ios(self) -> int:
        """I/Os completed within the pass, both directions."""
        return self._sum("read_ios") + self._sum("write_ios")

    @property
    def errors(self) -> int:
        """I/Os that failed or came back short, and blocks that were not as written."""
        return self._sum("errors") + (self.stamps.bad if self.stamps else 0)

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
        """I/Os a second, both directions."""
        return self.ios / self.elapsed_ns * 1e9 if self.elapsed_ns else 0.0
