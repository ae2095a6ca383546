"""A copy step: the same files each pass, compared with this run's sequential rate."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import replace

from jovik.analysis.copy import copy_facts
from jovik.base.step_result import StepResult
from jovik.runs.context import ResumedStep, RunContext
from jovik.runs.repetition import TimeAllowance
from jovik.runs.step_result import failure, summarise
from jovik.runs.task import Task
from jovik.runs.workload import copy_job, pass_seed
from jovik.steps import CopyStep, IoStep, parse


def run_copy(
    position: int,
    task: Task,
    step: CopyStep,
    bench: RunContext,
    allowed: TimeAllowance | None,
    earlier: Sequence[StepResult],
    done: ResumedStep | None = None,
) -> StepResult:
    """Copy until the passes are enough.

    Raises
    ------
    TargetError
        There is no file system, no room, or the person's folder cannot be read.
    """
    session, options = bench.session, bench.options
    job = copy_job(step, pass_seed(options.seed, position, 0))
    _, total = session.copy_size(job)
    # A desktop's copy goes through the operating system's cache, whatever the session can do.
    conditions = replace(
        bench.conditions("buffered calls" if session.engine != "model" else "model", total),
        direct=False,
    )
    before = bench.order_note()
    bench.sink.step_begun(position, step, conditions)
    began = session.now_ns()
    traces = list(done.traces) if done else []

    def enough() -> str | None:
        return task.repeat.verdict(
            [t.rate_bytes_s for t in traces], session.now_ns() - began, allowed
        )

    reason = enough() if traces else None
    while reason is None:
        number = len(traces) + 1
        trace = session.copy(job, bench.observer.passing(position, step, number))
        if trace.facts.get("laid_out_bytes"):
            bench.sink.laid_out(trace.facts["laid_out_bytes"])
        traces.append(trace)
        bench.sink.pass_done(position, number, trace)
        bench.ran(step, [trace])
        if trace.first_fault is not None and options.stop_on_error:
            bench.sink.step_done(position, summarise(step, traces, conditions))
            raise failure(trace)
        reason = enough()
    facts, words, limits = copy_facts(
        traces, sequential_rate(earlier, inward=step.inward, filled=bench.filled_percent)
    )
    result = summarise(
        step, traces, conditions, [*words, *filter(None, [before, reason])], limits, {"copy": facts}
    )
    bench.sink.step_done(position, result)
    return result


def sequential_rate(
    results: Sequence[StepResult], *, inward: bool, filled: int | None
) -> float | None:
    """The best sequential rate of a run in one direction, bytes a second."""
    rates = []
    for result in results:
        step = parse(result.phrase)
        if (
            not isinstance(step, IoStep)
            or step.random
            or step.read_percent != (0 if inward else 100)
            or step.rate_bytes_s
            or step.durable
        ):
            continue
        if result.conditions.filled_percent == filled and result.passes:
            rates.append(statistics.median(p.rate_bytes_s for p in result.passes))
    return max(rates, default=None)
