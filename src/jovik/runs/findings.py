"""From the traces of a step to its findings, limits and notes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace

from jovik.analysis.cliff_agreement import cliff_agreement, cliff_agreement_note
from jovik.analysis.copy import copy_finding, sequential_rate
from jovik.analysis.disconnection import disconnection, disconnection_words
from jovik.analysis.drive_faults import failed_ios
from jovik.analysis.dropouts import all_drop_outs, drop_out_note
from jovik.analysis.limits import disturbances, group_limit, link_limit, tester_limits
from jovik.analysis.long_write import long_write, write_series
from jovik.analysis.long_write_notes import fall_note, fall_notes, long_write_notes
from jovik.analysis.lost_data import lost_data
from jovik.analysis.pass_ends import end_drop, end_drop_note
from jovik.analysis.replay import replay_finding
from jovik.analysis.scan import scan_finding, scan_notes
from jovik.analysis.step_result import Limit, PassFigures, StepResult
from jovik.analysis.temperature import TemperatureSummary
from jovik.base.findings import Findings, LostData
from jovik.base.io_session import Workload
from jovik.base.quantities import show_size
from jovik.base.trace import SLICE_NS, Trace
from jovik.runs.context import PassReadings, RunConditions, RunContext
from jovik.runs.step_result import figures_of

LONG_SLICES = 60
"""A pass of more slices is looked at as a series: for falls, and for drop-outs."""
AMOUNT_SLICES = 20
"""The same for writing an amount, which is meant to show the behaviour on the way."""
FULL_COVERAGE = 0.95
"""From this share of its span read on, a scan has looked at all of it."""


@dataclass
class Found:
    """The findings from the traces of a step."""

    findings: Findings = field(default_factory=Findings)
    limits: list[Limit] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def findings_of(
    context: RunContext,
    earlier: Sequence[StepResult],
    span_bytes: int,
    traces: Sequence[Trace],
    work: Workload | None,
    ceiling_iops: float | None,
) -> Found:
    """Return all findings from the traces."""
    collected = Found()
    if work is not None:
        threads = context.session.threads(work)
        figures = [figures_of(t) for t in traces]
        collected.limits += tester_limits(figures, ceiling_iops, work.block_bytes, threads)
        _surroundings(traces, figures, context.run_conditions, collected)
        if any(True for _ in readings_of(traces)):
            add_temperature(collected, context.temperature_summary(readings_of(traces)))
        _series(work, traces, collected)
    gone = next((x for t in traces if (x := disconnection(t)) is not None), None)
    collected.findings = replace(
        collected.findings,
        lost=worst_loss(traces),
        failed=failed_ios(traces) if gone is None else None,
        disconnected=gone,
    )
    if traces[0].scan is not None:
        _scan(traces[0], span_bytes, collected)
    replays = [t.replay for t in traces if t.replay is not None]
    if replays:
        collected.findings = replace(collected.findings, replay=replay_finding(replays))
    if traces[0].copy is not None:
        inward = traces[0].written_bytes > 0
        # Of this run where it was measured before, else of the shelf's like results.
        base = sequential_rate(earlier, inward=inward, filled=context.filled_percent)
        if base is None:
            base = sequential_rate(
                like_here(context.earlier, context.run_conditions),
                inward=inward,
                filled=context.filled_percent,
            )
        finding, notes, limits = copy_finding(traces, base)
        collected.findings = replace(collected.findings, copy=finding)
        written = write_series(traces[0])
        if written is not None and written.cliff is not None:
            collected.findings = replace(collected.findings, long_write=written)
            collected.notes.append(f"in its first pass: {fall_note(written, written.cliff)}")
        collected.notes += notes
        collected.limits += limits
    return collected


def worst_loss(traces: Sequence[Trace]) -> LostData | None:
    """Return the data that did not come back in the pass that lost most.

    None if all came back.
    """
    lost = [x for t in traces if t.stamps and (x := lost_data(t.stamps)) is not None]
    return max(lost, key=lambda x: x.lost_bytes, default=None)


def findings_of_failure(traces: Sequence[Trace], *, detached: bool, ladder: str | None) -> Found:
    """Return the findings of a step that a drive's failure ended."""
    gone = disconnection(traces[-1], detached=detached)
    failed = failed_ios(traces) if gone is None else None
    lost = worst_loss(traces)
    findings = Found(Findings(lost=lost, failed=failed, disconnected=gone, ladder=ladder))
    if gone is not None:
        findings.notes.append(f"the drive {disconnection_words(gone)}")
    return findings


def like_here(earlier: Sequence[StepResult], run_conditions: RunConditions) -> list[StepResult]:
    """Return the results of the shelf that were measured on this sample, rig and link."""
    here = (run_conditions.sample, run_conditions.rig, run_conditions.link)
    return [
        r for r in earlier if (r.conditions.sample, r.conditions.rig, r.conditions.link) == here
    ]


def readings_of(traces: Iterable[Trace]) -> Iterator[PassReadings]:
    """Yield temperatures and slices of the passes whose temperatures were read."""
    for trace in traces:
        if trace.environment is not None and trace.environment.temperatures:
            yield trace.environment.temperatures, trace.slices


def add_temperature(found: Found, temperature_summary: TemperatureSummary) -> None:
    """Enter how warm it was."""
    found.findings = replace(
        found.findings,
        temperature=temperature_summary.temperature,
        stuck_sensors=temperature_summary.stuck,
    )
    found.limits += [temperature_summary.limit] if temperature_summary.limit is not None else []
    found.notes += temperature_summary.notes


def with_temperature(
    result: StepResult, before: TemperatureSummary, after: TemperatureSummary
) -> StepResult:
    """Return a result with another judgement of its sensors."""
    limits = [x for x in result.limits if x != before.limit]
    if after.limit is not None:
        limits.append(after.limit)
    notes = [n for n in result.notes if n not in before.notes]
    return replace(
        result,
        findings=replace(result.findings, temperature=after.temperature, stuck_sensors=after.stuck),
        limits=tuple(limits),
        notes=(*notes, *after.notes),
    )


def _surroundings(
    traces: Sequence[Trace],
    figures: Sequence[PassFigures],
    run_conditions: RunConditions,
    found: Found,
) -> None:
    """Report the surroundings of the passes: the link, other programs, and heat."""
    found.limits += link_limit(figures, run_conditions.link, run_conditions.link_rate_bytes_s)
    found.limits += group_limit(figures, run_conditions.group_limits)
    moved = [f.read_bytes + f.written_bytes for f in figures]
    disturbed = disturbances([t.environment for t in traces], moved)
    found.findings = replace(
        found.findings,
        disturbances=tuple(d.sort for d in disturbed),
        disturbed=tuple(disturbed),
    )


def _series(work: Workload, traces: Sequence[Trace], found: Found) -> None:
    """Analyse the series of long passes."""
    amount = work.amount_bytes is not None and not work.reads
    least = AMOUNT_SLICES if amount else LONG_SLICES

    def long() -> Iterator[Trace]:
        return (t for t in traces if len(t.slices) > least)

    first = next(long(), None)
    if first is None:
        _short_fall(work, traces, found)
        return
    lost = all_drop_outs(t.slices for t in long())
    if lost is not None:
        found.findings = replace(found.findings, drop_outs=lost)
        found.notes.append(drop_out_note(lost))
    if work.reads:
        return
    # A write that was held to a pace may fall too, once the drive cannot keep it up.
    written = long_write(first.slices, first.elapsed_ns)
    if written is None:
        return
    found.findings = replace(found.findings, long_write=written)
    if amount:
        every = [w for t in long() if (w := long_write(t.slices, t.elapsed_ns)) is not None]
        agreed = cliff_agreement(every)
        if agreed is not None:
            found.findings = replace(found.findings, cliffs=agreed)
            found.notes.append(cliff_agreement_note(agreed))
        found.notes += long_write_notes(written, ios=work.random)
    else:
        # Who asked for a time wants a rate; its first pass as a series is news where it fell.
        falls = fall_notes(written, ios=work.random)
        found.notes += [f"in its first pass: {note}" for note in falls]


def _short_fall(work: Workload, traces: Sequence[Trace], found: Found) -> None:
    """Report a cliff inside a short write, whose mean is then a mean of two rates."""
    if work.reads:
        return
    written = long_write(traces[0].slices, traces[0].elapsed_ns)
    if written is not None and written.cliff is not None:
        found.findings = replace(found.findings, long_write=written)
        found.notes.append(f"in its first pass: {fall_note(written, written.cliff)}")
        return
    drop = end_drop([t.slices[: t.elapsed_ns // SLICE_NS] for t in traces])
    if drop is not None:
        found.findings = replace(found.findings, end_drop=drop)
        found.notes.append(end_drop_note(drop))


def _scan(trace: Trace, span: int, found: Found) -> None:
    record = trace.scan
    assert record is not None
    scan = scan_finding(record)
    found.findings = replace(found.findings, scan=scan)
    found.notes += scan_notes(scan)
    if trace.read_bytes < FULL_COVERAGE * span:
        found.notes.append(
            f"read {show_size(trace.read_bytes)} of {show_size(span)}: the rest was not checked"
        )
