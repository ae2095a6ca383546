"""Running a plan: step by step, each finished pass handed over before the next begins."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from jovik.bench.access import run_access
from jovik.bench.chores import probe, run_chore
from jovik.bench.context import Bench, Done
from jovik.bench.copying import run_copy
from jovik.bench.cost import time_of
from jovik.bench.repeat import Allowed
from jovik.bench.scan import area, run_scan
from jovik.bench.task import Task
from jovik.bench.work import pass_seed, sized, workload
from jovik.phrase import Access, Copy, Empty, Fill, Rest, Scan
from jovik.protocol import Session
from jovik.results import StepResult


def check_plan(tasks: Sequence[Task], session: Session) -> None:
    """Refuse what the target cannot take, before anything is written.

    Raises
    ------
    TargetRefused
        With the limit.
    """
    for task in tasks:
        step = sized(task.step, session)
        if isinstance(step, Access):
            session.check(workload(step, 0))
        elif isinstance(step, Scan):
            session.check(area(step, session))
        elif isinstance(step, Fill):
            session.to_fill_bytes(step.percent)


def run_plan(tasks: Sequence[Task], bench: Bench, done: Mapping[int, Done] | None = None) -> list[StepResult]:
    """Run all steps, or of an interrupted run those that are left.

    Parameters
    ----------
    done : mapping from position to Done, optional
        What an earlier process has finished. A fill level that the next step was to meet is brought back.

    Raises
    ------
    TargetRefused
        A step asks what the target cannot take; nothing has been written then.
    DriveFailed
        An I/O failed and errors stop the run; the pass is with the sink.
    KeyboardInterrupt
        A person stopped it; finished passes are with the sink.
    """
    done = done or {}
    check_plan(tasks, bench.session)
    began = bench.session.now_ns()
    results: list[StepResult] = []
    left = [n for n in range(len(tasks)) if not (n in done and done[n].finished)]
    for position in range(len(tasks)):
        if position not in left:
            _bring_back(position, tasks[position], bench, position == max(set(range(len(tasks))) - set(left)))
    if any(isinstance(tasks[n].step, Rest) and tasks[n].step.recovered for n in left):  # type: ignore[attr-defined]
        bench.first_rate_bytes_s = probe(bench, left[0], tasks[left[0]].step)
    for position in left:
        task, ahead = tasks[position], tasks[position + 1 :]
        result = _run_step(position, task, bench, _share(tasks, left, position, bench, began), results, done.get(position), ahead)
        results.append(result)
        bench.observer.finished(position, result)
    return results


def _share(tasks: Sequence[Task], left: Sequence[int], position: int, bench: Bench, began: int) -> Allowed | None:
    """The time that a step may take: its part of what is left of the budget, by how long each is expected to take."""
    budget = bench.options.budget_ns
    if budget is None:
        return None
    remaining = max(budget - (bench.session.now_ns() - began), 0)
    mine = max(time_of(tasks[position], bench.session), 1)
    rest = sum(max(time_of(tasks[n], bench.session), 1) for n in left if n >= position)
    return Allowed(remaining * mine // rest, remaining)


def _bring_back(position: int, task: Task, bench: Bench, last: bool) -> None:
    """A fill that an earlier process made went with it; the steps behind it are to meet it all the same."""
    if isinstance(task.step, Fill):
        bench.filled_percent = task.step.percent
    elif isinstance(task.step, Empty):
        bench.filled_percent = None
    if last and bench.filled_percent is not None:
        watch = bench.observer.preparing(position, task.step, bench.session.to_fill_bytes(bench.filled_percent))
        trace = bench.session.fill(bench.filled_percent, pass_seed(bench.options.seed, position, 1), watch)
        if trace is not None:
            bench.sink.laid_out(trace.written_bytes)


def _run_step(
    position: int, task: Task, bench: Bench, allowed: Allowed | None, earlier: Sequence[StepResult], done: Done | None, ahead: Sequence[Task]
) -> StepResult:  # fmt: skip
    step = sized(task.step, bench.session)
    if isinstance(step, Access):
        return run_access(position, task, step, bench, allowed, done)
    if isinstance(step, Scan):
        return run_scan(position, step, bench)
    if isinstance(step, Copy):
        return run_copy(position, task, step, bench, allowed, earlier, done)
    assert isinstance(step, Fill | Empty | Rest)
    return run_chore(position, step, bench, ahead, allowed)
