"""A scan: sequential rate and access time from the first to the last address, zone by zone."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.errors import TargetError
from jovik.base.io_session import Progress, Workload, no_progress
from jovik.base.quantities import parse_size, spell_size
from jovik.steps.cost import PlanCost
from jovik.steps.io_clauses import BLOCKS, SECTOR
from jovik.steps.io_step import DEFAULT_SPAN_BYTES
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor, above_zero, in_range, whole

if TYPE_CHECKING:
    from jovik.analysis.step_result import StepResult
    from jovik.base.io_session import Session
    from jovik.base.trace import IoFault, Trace
    from jovik.runs.running_step import RunningStep

ZONES = (2, 10_000)
SCAN_BLOCK_BYTES = 2**20
STRETCH_BYTES = 16 * 2**20
"""Bytes read in order in each zone, unless the zone is smaller."""
WHOLE_ZONES = 200
"""Zones of a scan that reads everything, unless its phrase says how many."""
PROBES, PROBE_BYTES = 8, 4096
"""Single reads in each zone for its access time."""
WHOLE_BATCHES, WHOLE_PROBES = 5, 40
"""Batches of single reads anywhere in the span: within a zone an arm hardly moves."""
PROBING_NS = 20_000_000
"""Expected time of the single reads of a zone."""
DEPTH = 4


@dataclass(frozen=True)
class ScanStep(Step):
    """Rate and access time from the first to the last address, in zones of equal size.

    `span_bytes` None is the whole device, or on a file system the area of the default span. With
    `whole`, all of each zone is read instead of a stretch at its beginning.
    """

    word: ClassVar[str] = "scan"

    zones: int
    block_bytes: int = SCAN_BLOCK_BYTES
    span_bytes: int | None = None
    whole: bool = False

    reads = True
    once = True

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        block = "" if self.block_bytes == SCAN_BLOCK_BYTES else f" {spell_size(self.block_bytes)}"
        within = [] if self.span_bytes is None else [f"within {spell_size(self.span_bytes)}"]
        every = " all" if self.whole else ""
        return [f"scan read{every}{block} in {self.zones} zones", *within]

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> ScanStep:
        # What follows ``scan``.
        cursor.choice("'read'", "read")
        every = cursor.accept("all")
        block, zones, span = SCAN_BLOCK_BYTES, WHOLE_ZONES if every else None, None
        if cursor.next is not None and cursor.next.text[:1].isdigit():
            block = cursor.read(
                parse_size,
                "a block such as 1MiB",
                lambda n: "" if BLOCKS[0] <= n <= BLOCKS[1] and n % SECTOR == 0 else "a block",
            )
        named = False
        while cursor.next is not None:
            if not named and cursor.accept("in"):
                named = True
                zones = cursor.read(
                    whole, "a number of zones such as 200", in_range(ZONES, "a number of zones")
                )
                cursor.choice("'zones'", "zones")
            elif span is None and cursor.accept("within"):
                span = cursor.read(parse_size, "a span such as 1GB", above_zero("a span"))
            else:
                raise cursor.wrong("in N zones or within SPAN")
        if zones is None:
            raise cursor.wrong("in N zones")
        return cls(zones, block, span, every)

    def span(self, session: Session) -> int:
        """Return the bytes to scan: from the phrase, a whole device, or the default test file."""
        return self.span_bytes or session.capacity_bytes() or DEFAULT_SPAN_BYTES

    def stretch_bytes(self, span_bytes: int) -> int:
        """Return bytes read in order of each zone."""
        zone = span_bytes // self.zones
        most = zone if self.whole else STRETCH_BYTES
        return max(min(zone, most) // self.block_bytes, 1) * self.block_bytes

    def workload(self, session: Session) -> Workload:
        """Return the workload whose test file the scan needs.

        Raises
        ------
        TargetError
            The zones are smaller than a block.
        """
        span = self.span(session)
        if span // self.zones < self.block_bytes:
            raise TargetError(
                f"{self.zones} zones of {span} bytes are smaller than a block of "
                f"{self.block_bytes} bytes",
                "ask for fewer zones or a smaller block",
            )
        return Workload(
            random=False,
            read_percent=100,
            block_bytes=self.block_bytes,
            depth=DEPTH,
            span_bytes=span // self.block_bytes * self.block_bytes,
            seed=1,
            time_ns=10**9,
        )

    @override
    def check(self, session: Session) -> None:
        session.check(self.workload(session))

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        stretch = self.stretch_bytes(self.span(session))
        return self.zones * (stretch / rate_bytes_s * 1e9 + PROBING_NS)

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        # On a file system the scanned file is written first.
        if session.capacity_bytes() is not None:
            return
        missing = max(self.span(session) - cost.laid_out_bytes, 0)
        cost.certain_bytes += missing
        cost.laid_out_bytes += missing
        cost.take_space()

    def run(self, run: RunningStep) -> StepResult:
        """Go over all zones once."""
        from jovik.base.trace import ScanRecord, scan_trace

        session = run.session
        whole_area = self.workload(session)
        run.begin(self, session.engine_for(whole_area), whole_area.span_bytes)
        run.prepare(whole_area)
        watch = run.progress(1)
        began = session.now_ns()
        zone = whole_area.span_bytes // self.zones // self.block_bytes * self.block_bytes
        parts: list[Trace] = []
        faults: list[IoFault] = []
        times: list[float | None] = []
        errors: list[int] = []
        for number in range(self.zones):
            stretch, probes, access_ns = self._zone(run, whole_area, number, zone)
            parts.append(stretch)
            faults += [t.first_fault for t in (stretch, probes) if t and t.first_fault]
            bad = probes.errors if probes is not None else 0
            times.append(access_ns)
            errors.append(stretch.errors + bad)
            done = sum(t.read_bytes for t in parts)
            watch(Progress(session.now_ns() - began, done, stretch.rate_bytes_s, sum(errors)))
            if (
                stretch.first_fault is not None
                and run.context.options.stop_on_error
                and stretch.stopped
            ):
                break
        record = ScanRecord(
            start_bytes=tuple(n * zone for n in range(len(parts))),
            zone_bytes=zone,
            rate_bytes_s=tuple(t.rate_bytes_s if not t.errors else 0.0 for t in parts),
            access_ns=tuple(times),
            errors=tuple(errors),
            whole_ns=session.now_ns() - began,
            whole_access_ns=self._whole_access_ns(run, whole_area),
        )
        trace = scan_trace(parts, record, faults)
        run.record(trace)
        return run.finish([trace])

    def _zone(
        self, run: RunningStep, area: Workload, number: int, zone_bytes: int
    ) -> tuple[Trace, Trace | None, float | None]:
        """Read a stretch in order, then single blocks. Return both traces and a median in ns."""
        stretch = self.stretch_bytes(area.span_bytes)
        # A few areas beyond an error are worth knowing: a zone ends at its first, the scan goes on.
        last = number == self.zones - 1
        read = replace(
            area,
            # The last address is part of the last zone, and is what is read of it.
            start_bytes=area.span_bytes - stretch if last else number * zone_bytes,
            span_bytes=stretch,
            amount_bytes=stretch,
            time_ns=None,
            seed=run.seed(number + 1),
            stop_on_error=True,
        )
        trace = run.unbroken(lambda: run.session.run(read, no_progress))
        if self.block_bytes % PROBE_BYTES:
            return trace, None, None
        single = replace(
            read,
            random=True,
            start_bytes=number * zone_bytes,
            block_bytes=PROBE_BYTES,
            depth=1,
            span_bytes=zone_bytes,
            amount_bytes=PROBES * PROBE_BYTES,
        )
        probes = run.unbroken(lambda: run.session.run(single, no_progress))
        histogram = probes.latencies.get("read")
        return trace, probes, histogram.percentile_ns(0.5) if histogram is not None else None

    def _whole_access_ns(self, run: RunningStep, area: Workload) -> tuple[float, ...]:
        """Return mean time of single reads over the whole span, in nanoseconds, batch by batch."""
        if self.block_bytes % PROBE_BYTES:
            return ()
        means = []
        for batch in range(WHOLE_BATCHES):
            single = replace(
                area,
                random=True,
                block_bytes=PROBE_BYTES,
                depth=1,
                start_bytes=0,
                amount_bytes=WHOLE_PROBES * PROBE_BYTES,
                time_ns=None,
                seed=run.seed(self.zones + 1 + batch),
                stop_on_error=True,
            )
            trace = run.unbroken(partial(run.session.run, single, no_progress))
            if trace.broken or not trace.iops:
                return ()
            means.append(1e9 / trace.iops)
        return tuple(means)
