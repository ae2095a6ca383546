"""From the passes of a step to its result: figures, limits, notes."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.claim_candidates import trend_words
from jovik.analysis.comparability import passes_differ
from jovik.analysis.disconnection import disconnection_words
from jovik.analysis.statistics import trend
from jovik.analysis.step_result import Conditions, Limit, PassFigures, StepResult
from jovik.base.errors import DriveError, TargetError
from jovik.base.fault_errors import fault_error
from jovik.base.findings import Disconnection, Findings
from jovik.base.quantities import show_rate
from jovik.base.trace import Latencies, Trace
from jovik.steps import Step


def failure(trace: Trace, gone: Disconnection | None = None) -> DriveError | TargetError:
    """Return error to show for a pass that ended in a fault: the drive's, or the environment's."""
    fault = trace.first_fault
    if gone is not None:
        return DriveError(
            f"the drive {disconnection_words(gone)}",
            "earlier measurements are on the shelf; check cable, port and power, then the "
            "kernel log",
        )
    if fault is None:
        return DriveError(
            f"the drive did not return the written data: {stamp_note(trace)}",
            "the pass is on the shelf; copy important data off this drive",
        )
    return fault_error(
        fault,
        f"{fault.after_ns / 1e9:.2f} s into the pass",
        "earlier measurements are on the shelf; --on-error continue counts errors and continues",
    )


def figures_of(trace: Trace) -> PassFigures:
    """Return a pass's figures without its series."""
    return PassFigures(
        rate_bytes_s=trace.rate_bytes_s,
        flushed_rate_bytes_s=trace.flushed_rate_bytes_s,
        iops=trace.iops,
        read_bytes=trace.read_bytes,
        written_bytes=trace.written_bytes + trace.late_written_bytes,
        elapsed_ns=trace.elapsed_ns,
        errors=trace.errors,
        cpu_ns=trace.cpu_ns,
    )


def summarise(
    step: Step,
    traces: Sequence[Trace],
    conditions: Conditions,
    notes: Sequence[str] = (),
    limits: Sequence[Limit] = (),
    findings: Findings | None = None,
) -> StepResult:
    """Return a step's result from its passes, or from its window if it was to be steady."""
    latencies = {}
    if findings is not None and findings.steady is not None:
        traces = findings.steady.window(traces)
    for direction in ("read", "write"):
        whole = Latencies.merged(t.latencies[direction] for t in traces if direction in t.latencies)
        if whole is not None:
            latencies[direction] = whole
    of_traces = [n for t in traces for n in t.notes]
    of_traces += [stamp_note(t) for t in traces if t.stamps is not None]
    of_traces += [
        f"the first error: {t.first_fault.what} at byte {t.first_fault.offset_bytes}"
        for t in traces
        if t.first_fault
    ][:1]
    rates = [t.rate_bytes_s for t in traces]
    if step.measures and (findings is None or findings.steady is None):
        of_traces += [x for x in (spread_note(rates), trend_note(rates)) if x]
    return StepResult(
        phrase=step.canonical,
        kind=step.kind,
        passes=tuple(figures_of(t) for t in traces),
        latencies=latencies,
        conditions=conditions,
        limits=tuple(limits),
        notes=tuple(dict.fromkeys([*of_traces, *notes])),
        findings=findings or Findings(),
    )


def spread_note(rates: Sequence[float]) -> str:
    """Return a word of warning where passes differ by more than noise does."""
    if not passes_differ(rates):
        return ""
    return (
        f"passes differ by a factor of {max(rates) / min(rates):.1f} (first "
        f"{show_rate(rates[0])}, last {show_rate(rates[-1])}): "
        "something changed between them, such as a full write cache, heat, or other work "
        "on the machine"
    )


def trend_note(rates: Sequence[float]) -> str:
    """Return a word of warning where passes get faster or slower one after the other."""
    direction = trend(rates)
    if direction is None:
        return ""
    return f"{trend_words(direction)}: it is used in no verdict; find the cause of the drift"


def stamp_note(trace: Trace) -> str:
    """Return the result of reading the stamps back, in words."""
    stamps = trace.stamps
    assert stamps is not None
    if not stamps.bad:
        return "every stamp came back as it was written"
    where = stamps.first_offsets_bytes
    return (
        f"of {stamps.checked:,} blocks of 4 KiB {stamps.wrong:,} came back with other data and "
        f"{stamps.stale:,} with older, {stamps.unreadable:,} could not be read"
        + (f"; the first at byte {where[0]:,}" if where else "")
    )
