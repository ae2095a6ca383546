"""What crosses the layers: frozen records whose fields say their unit.

A `Trace` is what one pass recorded; everything else Jovik says about speed is computed from traces.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from jovik.units import show_size

SLICE_NS = 100_000_000
"""Length of a time slice of a trace, nanoseconds."""

SLICE_COLUMNS = ("read_bytes", "read_ios", "written_bytes", "write_ios", "errors")
"""Columns of `Trace.slices`."""


@dataclass(frozen=True)
class Latencies:
    """The latencies of one direction of a pass.

    `counts` has shape ``(buckets.COUNT,)``; minimum, maximum and sum are exact.
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

    `slices` has shape ``(n, 5)``, the columns of `SLICE_COLUMNS`, one row for each `SLICE_NS`. Only I/Os that were
    complete when the pass's time was over count there; those still in flight then are in `late_written_bytes`. `facts` holds what
    only some sorts of step record (the zones of a scan, the sync of a copy), as plain JSON.
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
        return (self.read_bytes + self.written_bytes) / self.elapsed_ns * 1e9 if self.elapsed_ns else 0.0

    @property
    def flushed_rate_bytes_s(self) -> float:
        """Throughput with the flush at the end counted as part of the time."""
        whole = self.elapsed_ns + self.flush_ns
        return (self.read_bytes + self.written_bytes) / whole * 1e9 if whole else 0.0

    @property
    def iops(self) -> float:
        """I/Os a second, both directions."""
        return self.ios / self.elapsed_ns * 1e9 if self.elapsed_ns else 0.0


@dataclass(frozen=True)
class Interval:
    """A figure with its 95 % interval; `low` and `high` are None where there is nothing to tell them from."""

    median: float
    low: float | None = None
    high: float | None = None

    @property
    def known(self) -> bool:
        """Whether there is an interval at all."""
        return self.low is not None and self.high is not None

    @property
    def half_width(self) -> float | None:
        """Half the interval's width as a share of the median; None where unknown."""
        if self.low is None or self.high is None or not self.median:
            return None
        return (self.high - self.low) / 2 / self.median

    def scaled(self, factor: float) -> Interval:
        """The same in another unit."""
        return Interval(
            self.median * factor,
            None if self.low is None else self.low * factor,
            None if self.high is None else self.high * factor,
        )


@dataclass(frozen=True)
class Limit:
    """Something other than the drive that bounded a result, with its figure."""

    what: str
    rate_bytes_s: float
    note: str = ""


@dataclass(frozen=True)
class PassFigures:
    """The figures of one pass that statistics need: what stays in hand when traces stay on the shelf."""

    rate_bytes_s: float
    flushed_rate_bytes_s: float
    iops: float
    read_bytes: int
    written_bytes: int
    elapsed_ns: int
    errors: int
    cpu_ns: int


@dataclass(frozen=True)
class Conditions:
    """What has to agree before two results may be compared, and what is named where it does not.

    `filled_percent` is the level that the target was filled to for this step, None where it was not filled on purpose. `after` is
    the phrase that ran before, `idle_ns` how long ago that ended.
    """

    engine: str
    direct: bool
    span_bytes: int
    fill_percent: float | None = None
    link: str | None = None
    rig: str | None = None
    unit: str | None = None
    firmware: str | None = None
    start_temperature_c: float | None = None
    filled_percent: int | None = None
    after: str | None = None
    idle_ns: int | None = None

    def differences(self, other: Conditions) -> list[str]:
        """What keeps two results from being compared, in words; empty when nothing does."""
        found = []
        if self.engine != other.engine and "model" in (self.engine, other.engine):
            found.append("one is simulated")
        if self.direct != other.direct:
            found.append("one went through the operating system's cache")
        if self.span_bytes != other.span_bytes:
            found.append(f"span {show_size(self.span_bytes)} / {show_size(other.span_bytes)}")
        mine, theirs = self.fill_percent, other.fill_percent
        if self.filled_percent != other.filled_percent:
            found.append(f"filled to {self.filled_percent or 0} % / {other.filled_percent or 0} %")
        elif mine is not None and theirs is not None and abs(mine - theirs) > 40:
            found.append(f"fill level {mine:.0f} % / {theirs:.0f} %")
        return found


@dataclass(frozen=True)
class StepResult:
    """One step of a run as statistics see it.

    `latencies` holds all passes together, by direction. `limits` and `notes` say what bounded the figure and what
    a reader should know.
    """

    phrase: str
    kind: str
    passes: tuple[PassFigures, ...]
    latencies: dict[str, Latencies]
    conditions: Conditions
    drive: str = ""
    run: str = ""
    started: str = ""
    limits: tuple[Limit, ...] = ()
    notes: tuple[str, ...] = ()
    facts: dict[str, Any] = field(default_factory=dict)

    @property
    def errors(self) -> int:
        """Errors of all passes."""
        return sum(p.errors for p in self.passes)


@dataclass(frozen=True)
class Health:
    """A drive's own log of itself. None is what it does not tell.

    Temperatures are in degrees Celsius by the sensor's name; `throttled_s` is all time it slowed itself down for heat.
    """

    source: str
    temperatures_c: dict[str, float] = field(default_factory=dict)
    warning_c: float | None = None
    critical_c: float | None = None
    percentage_used: int | None = None
    spare_percent: int | None = None
    spare_threshold_percent: int | None = None
    hours: int | None = None
    power_cycles: int | None = None
    unsafe_shutdowns: int | None = None
    media_errors: int | None = None
    reallocated_sectors: int | None = None
    pending_sectors: int | None = None
    interface_errors: int | None = None
    host_read_bytes: int | None = None
    host_written_bytes: int | None = None
    throttled_s: int | None = None
    warnings: tuple[str, ...] = ()
