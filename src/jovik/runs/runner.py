"""Running a plan: step by step, each finished pass handed over before the next begins."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from jovik.base.session import Session
from jovik.base.step_result import StepResult
from jovik.runs.access import run_access
from jovik.runs.context import ResumedStep, RunContext
from jovik.runs.copy import run_copy
from jovik.runs.cost import time_of
from jovik.runs.maintenance import measure_probe_write, probe_work, run_chore
from jovik.runs.repetition import TimeAllowance
from jovik.runs.scan import area, run_scan
from jovik.runs.task import Task
from jovik.runs.workload import copy_job, pass_seed, resolve_amount, workload
from jovik.steps import CopyStep, DiscardStep, FillStep, IdleStep, IoStep, ScanStep


def check_plan(tasks: Sequence[Task], session: Session) -> None:
    """Refuse what the target cannot take, before anything is written.

    Raises
    ------
    TargetError
        With the limit.
    """
    for task in tasks:
        step = resolve_amount(task.step, session)
        if isinstance(step, IoStep):
            session.check(workload(step, 0))
        elif isinstance(step, ScanStep):
            session.check(area(step, session))
        elif isinstance(step, CopyStep):
            session.copy_size(copy_job(step, 0))
        elif isinstance(step, FillStep):
            session.to_fill_bytes(step.percent)
        elif isinstance(step, IdleStep) and step.recovered:
            session.check(probe_work(0))


def run_plan(
    tasks: Sequence[Task], bench: RunContext, done: Mapping[int, ResumedStep] | None = None
) -> list[StepResult]:
    """Run all steps, or of an interrupted run those that are left.

    Parameters
    ----------
    done : mapping from position to Done, optional
        What an earlier process has finished. A fill level that the next step was to meet is brought
        back.

    Raises
    ------
    TargetError
        A step asks what the target cannot take; nothing has been written then.
    DriveError
        An I/O failed and errors stop the run; the pass is with the sink.
    KeyboardInterrupt
        A person stopped it; finished passes are with the sink.
    """
    done = done or {}
    check_plan(tasks, bench.session)
    began = bench.session.now_ns()
    results: list[StepResult] = []
    left = [n for n in range(len(tasks)) if not (n in done and done[n].finished)]
    if not left:
        return results
    _bring_back(tasks, left[0], bench)
    if any(isinstance(step := tasks[n].step, IdleStep) and step.recovered for n in left):
        bench.first_rate_bytes_s = measure_probe_write(bench, left[0], tasks[left[0]].step)
    # Asked once: a person's folder may hold many files, and what is free changes as the run goes
    # on.
    times = (
        [max(time_of(t, bench.session), 1) for t in tasks]
        if bench.options.budget_ns is not None
        else []
    )
    for position in left:
        task, ahead = tasks[position], tasks[position + 1 :]
        allowed = _share(times, left, position, bench, began)
        result = _run_step(position, task, bench, allowed, results, done.get(position), ahead)
        results.append(result)
        bench.observer.finished(position, result)
    return results


def _share(
    times_ns: Sequence[int], left: Sequence[int], position: int, bench: RunContext, began: int
) -> TimeAllowance | None:
    """The time that a step may take.

    Its part of what is left of the budget, by how long each is expected to take.
    """
    budget = bench.options.budget_ns
    if budget is None:
        return None
    remaining = max(budget - (bench.session.now_ns() - began), 0)
    return TimeAllowance(
        remaining * times_ns[position] // sum(times_ns[n] for n in left if n >= position), remaining
    )


def _bring_back(tasks: Sequence[Task], first: int, bench: RunContext) -> None:
    """A fill that an earlier process made went with it.

    The steps from `first` on are to meet it all the same.
    """
    levels = [
        (n, t.step)
        for n, t in enumerate(tasks[:first])
        if isinstance(t.step, FillStep | DiscardStep)
    ]
    position, fill = levels[-1] if levels else (0, None)
    if not isinstance(fill, FillStep):
        return
    bench.filled_percent = fill.percent
    watch = bench.observer.preparing(position, fill, bench.session.to_fill_bytes(fill.percent))
    trace = bench.session.fill(fill.percent, pass_seed(bench.options.seed, position, 1), watch)
    if trace is not None:
        bench.sink.laid_out(trace.written_bytes)


def _run_step(
    position: int,
    task: Task,
    bench: RunContext,
    allowed: TimeAllowance | None,
    earlier: Sequence[StepResult],
    done: ResumedStep | None,
    ahead: Sequence[Task],
) -> StepResult:
    step = resolve_amount(task.step, bench.session)
    if isinstance(step, IoStep):
        return run_access(position, task, step, bench, allowed, done)
    if isinstance(step, ScanStep):
        return run_scan(position, step, bench)
    if isinstance(step, CopyStep):
        return run_copy(position, task, step, bench, allowed, earlier, done)
    assert isinstance(step, FillStep | DiscardStep | IdleStep)
    return run_chore(position, step, bench, ahead, allowed)
