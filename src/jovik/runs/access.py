"""An access step: passes of one workload until they are enough."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from jovik.analysis.dropouts import drop_outs
from jovik.analysis.limits import tester_limits
from jovik.analysis.long_write import LongWrite, long_write
from jovik.base.session import ProgressCallback, Workload
from jovik.base.step_result import Conditions, StepResult
from jovik.base.trace import Environment, Trace
from jovik.hardware.host_load import between, counters
from jovik.hardware.temperature import TemperatureSampler
from jovik.runs.context import ResumedStep, RunContext
from jovik.runs.repetition import TimeAllowance
from jovik.runs.step_result import failure, figures_of, summarise, surroundings
from jovik.runs.task import Task
from jovik.runs.workload import pass_seed, workload
from jovik.steps import IoStep

LONG_SLICES = 60
"""A pass of more slices is looked at as a series: for falls, and for drop-outs."""
AMOUNT_SLICES = 20
"""The same for writing an amount, which is asked for to see what happens on the way."""


def run_access(
    position: int,
    task: Task,
    step: IoStep,
    bench: RunContext,
    allowed: TimeAllowance | None,
    done: ResumedStep | None = None,
) -> StepResult:
    """Repeat a step until its passes are enough.

    Raises
    ------
    DriveError
        An I/O failed and an error stops the run; the pass is with the sink.
    """
    session, options = bench.session, bench.options
    first = workload(step, 0)
    conditions = bench.conditions(session.engine_for(first), step.span)
    before = bench.order_note()
    bench.sink.step_begun(position, step, conditions)
    began = session.now_ns()
    traces = list(done.traces) if done else []
    ceiling = session.ceiling_iops(first)
    reason = _enough(task, traces, 0, allowed) if traces else None
    while reason is None:
        number = len(traces) + 1
        work = workload(
            step, pass_seed(options.seed, position, number), stop_on_error=options.stop_on_error
        )
        if step.once and allowed is not None:
            work = replace(
                work, time_ns=min(work.time_ns or allowed.share_ns, max(allowed.share_ns, 10**9))
            )
        bench.prepare(position, step, work)
        trace = _watched(bench, work, bench.observer.passing(position, step, number))
        traces.append(trace)
        bench.sink.pass_done(position, number, trace)
        bench.ran(step, [trace])
        broken = trace.first_fault is not None or (
            trace.stamps is not None and trace.stamps.bad > 0
        )
        if broken and (options.stop_on_error or trace.stopped):
            bench.sink.step_done(position, summarise(step, traces, conditions))
            raise failure(trace)
        reason = _enough(task, traces, session.now_ns() - began, allowed)
    result = summary_of(step, traces, bench, conditions, [before, reason], ceiling)
    if task.ladder is not None:
        result = replace(result, facts=result.facts | {"ladder": task.ladder})
    bench.sink.step_done(position, result)
    return result


def summary_of(
    step: IoStep,
    traces: Sequence[Trace],
    bench: RunContext,
    conditions: Conditions,
    said: Sequence[str],
    ceiling: float | None,
) -> StepResult:
    """The result with all that is known of the step: limits, surroundings, its series."""
    threads = bench.session.threads(workload(step, 0))
    limits = tester_limits([figures_of(t) for t in traces], ceiling, step.block_bytes, threads)
    notes, more, warmth = surroundings(step, traces, bench.setting)
    facts, seen = series_facts(step, traces)
    return summarise(
        step,
        traces,
        conditions,
        [*notes, *seen, *filter(None, said)],
        [*limits, *more],
        facts | warmth,
    )


def series_facts(step: IoStep, traces: Sequence[Trace]) -> tuple[dict[str, object], list[str]]:
    """What the series of long passes tell, as plain JSON and in words."""
    facts: dict[str, object] = {}
    notes: list[str] = []
    amount = step.has_amount and step.read_percent == 0
    long = [t for t in traces if len(t.slices) > (AMOUNT_SLICES if amount else LONG_SLICES)]
    if not long:
        return facts, notes
    lost = [drop_outs(t.slices) for t in long]
    if any(x.count for x in lost):
        worst = max(lost, key=lambda x: x.longest_s)
        facts["drop_outs"] = {
            "count": sum(x.count for x in lost),
            "seconds": sum(x.seconds for x in lost),
            "longest_s": worst.longest_s,
        }
        notes.append(worst.words(sum(x.count for x in lost), sum(x.seconds for x in lost)))
    # A write that was held to a pace may fall too, once the drive cannot keep it up.
    if step.writes and step.read_percent == 0:
        found: LongWrite | None = long_write(long[0].slices, long[0].elapsed_ns)
        if found is not None:
            facts["long_write"] = found.as_json()
            # Who asked for a time wants a rate; what its first pass looked like is only news where
            # it fell.
            notes += (
                found.words(ios=step.random)
                if amount
                else [f"in its first pass: {w}" for w in found.fall_words(ios=step.random)]
            )
    return facts, notes


def _enough(
    task: Task, traces: Sequence[Trace], spent_ns: int, allowed: TimeAllowance | None
) -> str | None:
    return task.repeat.verdict([t.rate_bytes_s for t in traces], spent_ns, allowed)


def _watched(bench: RunContext, work: Workload, watch: ProgressCallback) -> Trace:
    """One pass, with what went on around it."""
    session, setting = bench.session, bench.setting
    if setting.device is None:
        return session.run(work, watch)
    before = counters(setting.device)
    with TemperatureSampler(list(setting.sensors)) as watcher:
        trace = session.run(work, lambda live: watch(replace(live, temperature_c=watcher.latest_c)))
    load = between(
        before,
        counters(setting.device),
        trace.read_bytes + trace.written_bytes + trace.late_written_bytes,
    )
    if load is None:
        return replace(trace, environment=Environment(temperatures=tuple(watcher.samples)))
    # Read back to verify, the pass has moved its data twice; through the cache it is moved at some
    # other time.
    other = None if work.verify or not session.direct else load.other_bytes
    return replace(
        trace,
        environment=Environment(load.busy, load.own, load.stolen, other, tuple(watcher.samples)),
    )
