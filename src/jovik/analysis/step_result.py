"""The result of a step as statistics see it: figures of its passes, conditions, limits, notes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from types import MappingProxyType
from typing import ClassVar

from jovik.analysis.statistics import interval
from jovik.base.findings import Findings
from jovik.base.interval import Interval
from jovik.base.quantities import show_size
from jovik.base.trace import Latencies
from jovik.steps.parser import parse
from jovik.steps.step import Step


class LimitSource(StrEnum):
    """Possible limits on a result other than the drive."""

    TESTER = "tester"
    PROCESSOR = "processor"
    LINK = "link"
    HEAT = "heat"
    SOURCE = "source"
    RIG = "rig"
    GROUP_BYTES = "control group"
    GROUP_IOS = "control group, I/Os"

    @property
    def of_group(self) -> bool:
        """Return True if a control group set it."""
        return self in (LimitSource.GROUP_BYTES, LimitSource.GROUP_IOS)


@dataclass(frozen=True)
class Limit:
    """Something other than the drive that bounded a result, with its figure."""

    what: LimitSource
    rate_bytes_s: float
    note: str = ""


@dataclass(frozen=True)
class PassFigures:
    """The figures of one pass that statistics need.

    The figures of a pass without its trace, which stays on the shelf.
    """

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
    """Conditions that must agree before two results may be compared, or that are reported.

    `filled_percent` is the level that the target was filled to for this step, None if it was not
    filled on purpose. `link_bytes_s` is the payload rate of the link. `after` is the phrase that
    ran before, `idle_ns` how long ago that ended.
    `sample` is stored under its earlier name, `unit`.
    """

    JSON_KEYS: ClassVar[Mapping[str, str]] = MappingProxyType({"sample": "unit"})

    engine: str
    direct: bool
    span_bytes: int
    fill_percent: float | None = None
    link: str | None = None
    link_bytes_s: float | None = None
    rig: str | None = None
    sample: str | None = None
    firmware: str | None = None
    start_temperature_c: float | None = None
    filled_percent: int | None = None
    after: str | None = None
    idle_ns: int | None = None

    def differences(self, other: Conditions) -> list[str]:
        """Return the reasons why two results cannot be compared, in words. Empty without any."""
        differing = []
        if self.engine != other.engine and "model" in (self.engine, other.engine):
            differing.append("one is simulated")
        if self.direct != other.direct:
            differing.append("one was buffered (page cache)")
        if self.span_bytes != other.span_bytes:
            differing.append(f"span {show_size(self.span_bytes)} / {show_size(other.span_bytes)}")
        own, theirs = self.fill_percent, other.fill_percent
        if self.filled_percent != other.filled_percent:
            differing.append(
                f"filled to {self.filled_percent or 0} % / {other.filled_percent or 0} %"
            )
        elif own is not None and theirs is not None and abs(own - theirs) > 40:
            differing.append(f"fill level {own:.0f} % / {theirs:.0f} %")
        return differing


@dataclass(frozen=True)
class StepResult:
    """One step of a run as statistics see it.

    `latencies` holds all passes together, by direction. `limits` and `notes` say what bounded the
    figure and what a reader should know. `position` is its place in the run, from 0. `excluded` is
    the reason why it does not count, if it was excluded. `pooled_runs` are the runs whose passes it
    has, where it stands for several made alike.
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
    findings: Findings = field(default_factory=Findings)
    excluded: str | None = None
    position: int = 0
    pooled_runs: tuple[str, ...] = ()

    @property
    def from_runs(self) -> tuple[str, ...]:
        """Return the runs that its passes are from, oldest first."""
        return self.pooled_runs or (self.run,)

    @property
    def step(self) -> Step:
        """Return the step that was run, with its time."""
        return parse(self.phrase)

    @property
    def rate(self) -> Interval:
        """Return the rate over the passes, bytes a second. `rate_of` chooses the figure to use."""
        return interval([p.rate_bytes_s for p in self.passes])

    @property
    def iops(self) -> Interval:
        """Return the I/Os a second over the passes."""
        return interval([p.iops for p in self.passes])

    @property
    def errors(self) -> int:
        """Errors of all passes."""
        return sum(p.errors for p in self.passes)
