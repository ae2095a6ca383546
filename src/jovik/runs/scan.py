"""A scan of the surface.

In each zone a stretch read in order, then a few single reads for the access time.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jovik.analysis.latency import merge, percentile_ns
from jovik.analysis.scan import surface
from jovik.base.errors import TargetError
from jovik.base.quantities import show_size
from jovik.base.session import Progress, Session, Workload
from jovik.base.step_result import StepResult
from jovik.base.trace import SLICE_COLUMNS, Latencies, Trace
from jovik.runs.context import RunContext, no_progress
from jovik.runs.step_result import failure, summarise
from jovik.runs.workload import pass_seed
from jovik.steps import ScanStep

STRETCH_BYTES = 16 * 2**20
"""What is read in order of each zone, unless the zone is smaller."""
FULLY = 0.95
PROBES = 8
PROBE_BYTES = 4096
DEPTH = 4


def probe_bytes(span_bytes: int, step: ScanStep) -> int:
    """Bytes read of each zone."""
    zone = span_bytes // step.zones
    return max(min(zone, STRETCH_BYTES) // step.block_bytes, 1) * step.block_bytes


def span_of(step: ScanStep, session: Session) -> int:
    """Bytes that a scan goes over.

    What the phrase says, a whole device, or the default area of a test file.
    """
    return step.span_bytes or session.capacity_bytes() or 2**30


def area(step: ScanStep, session: Session) -> Workload:
    """The workload whose test file a scan needs.

    Raises
    ------
    TargetError
        The zones are smaller than a block.
    """
    span = span_of(step, session)
    if span // step.zones < step.block_bytes:
        raise TargetError(
            f"{step.zones} zones of {span} bytes are smaller than a block of "
            f"{step.block_bytes} bytes",
            "ask for fewer zones or a smaller block",
        )
    span = span // step.block_bytes * step.block_bytes
    return Workload(
        random=False,
        read_percent=100,
        block_bytes=step.block_bytes,
        depth=DEPTH,
        span_bytes=span,
        seed=1,
        time_ns=10**9,
    )


def run_scan(position: int, step: ScanStep, bench: RunContext) -> StepResult:
    """Go over all zones once.

    Raises
    ------
    DriveError
        A zone could not be read and errors stop the run; what was read is with the sink.
    """
    session = bench.session
    whole = area(step, session)
    conditions = bench.conditions(session.engine_for(whole), whole.span_bytes)
    bench.sink.step_begun(position, step, conditions)
    bench.prepare(position, step, whole)
    watch = bench.observer.passing(position, step, 1)
    began = session.now_ns()
    zone = whole.span_bytes // step.zones // step.block_bytes * step.block_bytes
    stretch = probe_bytes(whole.span_bytes, step)
    parts: list[Trace] = []
    rates: list[float] = []
    times: list[float | None] = []
    errors: list[int] = []
    for number in range(step.zones):
        seed = pass_seed(bench.options.seed, position, number + 1)
        # A few areas beyond an error are worth knowing: a scan counts on within the zone and over
        # all zones.
        read = replace(
            whole,
            start_bytes=number * zone,
            span_bytes=stretch,
            amount_bytes=stretch,
            time_ns=None,
            seed=seed,
            stop_on_error=True,
        )
        trace = session.run(read, no_progress)
        single = replace(
            read,
            random=True,
            block_bytes=PROBE_BYTES,
            depth=1,
            span_bytes=zone,
            amount_bytes=PROBES * PROBE_BYTES,
        )
        probes = session.run(single, no_progress) if step.block_bytes % PROBE_BYTES == 0 else None
        parts.append(trace)
        rates.append(trace.rate_bytes_s if not trace.errors else 0.0)
        found = probes.latencies.get("read") if probes is not None else None
        times.append(percentile_ns(found, 0.5) if found is not None else None)
        errors.append(trace.errors + (probes.errors if probes is not None else 0))
        done = sum(t.read_bytes for t in parts)
        watch(Progress(session.now_ns() - began, done, trace.rate_bytes_s, sum(errors)))
        if trace.first_fault is not None and bench.options.stop_on_error and trace.stopped:
            break
    facts = {
        "start_bytes": [n * zone for n in range(len(rates))],
        "zone_bytes": zone,
        "rate_bytes_s": rates,
        "access_ns": times,
        "errors": errors,
    }
    one = _together(parts, session.now_ns() - began, {"zones": facts})
    bench.sink.pass_done(position, 1, one)
    bench.ran(step, [one])
    seen = surface(zone, rates, times, errors)
    share = (
        f"read {show_size(one.read_bytes)} of {show_size(whole.span_bytes)}: what lies "
        "between was not looked at"
    )
    notes = [*seen.words(), *([share] if one.read_bytes < FULLY * whole.span_bytes else [])]
    result = summarise(step, [one], conditions, notes, facts={"surface": seen.as_json()})
    bench.sink.step_done(position, result)
    if one.first_fault is not None and bench.options.stop_on_error:
        raise failure(one)
    return result


def _together(parts: list[Trace], elapsed_ns: int, facts: dict[str, object]) -> Trace:
    """All stretches as one pass.

    Its rate is of the time they took, without the single reads in between.
    """
    busy = sum(t.elapsed_ns for t in parts)
    slices = np.zeros((len(parts), len(SLICE_COLUMNS)), np.int64)
    for row, t in enumerate(parts):
        slices[row] = t.slices.sum(axis=0)
    latencies: dict[str, Latencies] = {}
    whole = merge(t.latencies["read"] for t in parts if "read" in t.latencies)
    if whole is not None:
        latencies["read"] = whole
    first = next((t.first_fault for t in parts if t.first_fault is not None), None)
    return Trace(
        engine=parts[0].engine,
        direct=parts[0].direct,
        seed=parts[0].seed,
        elapsed_ns=busy,
        flush_ns=0,
        cpu_ns=sum(t.cpu_ns for t in parts),
        slices=slices,
        latencies=latencies,
        first_fault=first,
        notes=parts[0].notes,
        facts=facts | {"whole_ns": elapsed_ns},
    )
