"""Running a plan: step by step, each finished pass handed over before the next begins."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from jovik.analysis.step_result import StepResult
from jovik.base.errors import TargetError
from jovik.base.io_session import Session
from jovik.base.quantities import show_size
from jovik.runs.context import ResumedStep, RunContext
from jovik.runs.cost import time_of
from jovik.runs.findings import readings_of, with_temperature
from jovik.runs.repetition import TimeAllowance
from jovik.runs.rounds import in_rounds, interleaved, run_rounds
from jovik.runs.running_step import RunningStep
from jovik.runs.task import Task
from jovik.steps.cost import PlanCost
from jovik.steps.rest import probe_write
from jovik.steps.seed import pass_seed

UNKNOWN_LINK_BYTES_S = 1e9
"""What a link is taken to carry of which nothing is known."""


def check_plan(tasks: Sequence[Task], session: Session) -> None:
    """Refuse steps that the target cannot take, before anything is written.

    Raises
    ------
    TargetError
        With the limit.
    """
    whole = session.capacity_bytes() is not None
    cost = PlanCost()
    for number, task in enumerate(tasks, 1):
        step = task.step.resolve(session, cost.filled_bytes)
        step.check(session)
        step.add_cost(cost, session, task.repeat.most)
        room = session.free_bytes()
        # On a device every step has the same space; in a file system a fill leaves less of it.
        if whole or room is None or cost.space_bytes <= room:
            continue
        raise TargetError(
            f"step {number}, '{step.canonical}', has too little space: with the earlier steps, "
            f"take, the plan needs {show_size(cost.space_bytes)}, and {show_size(room)} may be "
            "written",
            "fill less, put 'empty' before that step, or add 'within SPAN' to its phrase",
        )


def run_plan(
    tasks: Sequence[Task], context: RunContext, done: Mapping[int, ResumedStep] | None = None
) -> list[StepResult]:
    """Run all steps, or of an interrupted run those that are left.

    Parameters
    ----------
    done : mapping from position to ResumedStep, optional
        What an earlier process has finished. A fill level that the next step was to meet is brought
        back.

    Raises
    ------
    TargetError
        A step is impossible on the target. Nothing has been written then.
    DriveError
        An I/O failed and errors stop the run; the pass is with the sink.
    KeyboardInterrupt
        A person stopped it; finished passes are with the sink.
    """
    done = done or {}
    check_plan(tasks, context.session)
    began = context.session.now_ns()
    results: list[StepResult] = []
    unfinished = [n for n in range(len(tasks)) if not (n in done and done[n].finished)]
    if not unfinished:
        return results
    _bring_back(tasks, unfinished[0], context)
    first = RunningStep(unfinished[0], tasks, context)
    if any(tasks[n].step.needs_first_rate for n in unfinished):
        context.first_rate_bytes_s = probe_write(first)
    elif _fills_cache([tasks[n] for n in unfinished], context):
        context.first_rate_bytes_s = probe_write(first, context.cache.probe_bytes)
    # Asked once: a person's folder may hold many files, and what is free changes as the run goes
    # on.
    times = (
        [max(time_of(t, context.session), 1) for t in tasks]
        if context.options.budget_ns is not None
        else []
    )
    at = 0
    while at < len(unfinished):
        group = interleaved(tasks, unfinished, at)
        if not in_rounds(tasks, group):
            position = group[0]
            allowed = _share(times, unfinished, position, context, began)
            step = tasks[position].step.resolve(context.session)
            finished = [
                step.run(
                    RunningStep(position, tasks, context, results, allowed, done.get(position))
                )
            ]
        else:
            shares = {p: _share(times, unfinished, p, context, began) for p in group}
            finished = run_rounds(tasks, shares, context, results, done)
        for position, result in zip(group, finished, strict=True):
            results.append(result)
            context.observer.finished(position, result)
        at += len(group)
    judge_sensors_again(context)
    return results


def _fills_cache(tasks: Sequence[Task], context: RunContext) -> bool:
    """Return True if measuring writes may meet a write cache that earlier ones have filled."""
    size = context.cache.size_bytes
    felt = [t for t in tasks if t.step.measures and not t.tracked and t.rounds is None]
    if size is None or not context.options.rest or not any(t.step.writes for t in felt):
        return False
    cost = PlanCost()
    for task in tasks:
        task.step.resolve(context.session).add_cost(cost, context.session, task.repeat.most)
    # No drive writes faster than its link carries.
    rate = context.run_conditions.link_rate_bytes_s or UNKNOWN_LINK_BYTES_S
    return cost.written_bytes(rate) > size


def judge_sensors_again(context: RunContext) -> None:
    """Reassess every step by the sensors' readings over the whole run.

    One that never moves is found out only in time, and is believed in all steps or in none.
    """
    for position, result, traces, before in context.warmed:
        after = context.temperature_summary(readings_of(traces))
        if after != before:
            context.recorder.step_done(position, with_temperature(result, before, after))


def _share(
    times_ns: Sequence[int], left: Sequence[int], position: int, context: RunContext, began: int
) -> TimeAllowance | None:
    """Return the time that a step may take.

    Its part of the remaining budget, by the expected time of each.
    """
    budget = context.options.budget_ns
    if budget is None:
        return None
    remaining = max(budget - (context.session.now_ns() - began), 0)
    return TimeAllowance(
        remaining * times_ns[position] // sum(times_ns[n] for n in left if n >= position), remaining
    )


def _bring_back(tasks: Sequence[Task], first: int, context: RunContext) -> None:
    """Repeat a fill that ended with an earlier process.

    The steps from `first` on are to meet it all the same.
    """
    levels = [(n, t.step) for n, t in enumerate(tasks[:first]) if t.step.fill_level is not None]
    if not levels or not levels[-1][1].fill_level:
        return
    position, fill = levels[-1]
    percent = fill.fill_level
    assert percent is not None
    context.filled_percent = percent
    watch = context.observer.preparing(position, fill, context.session.to_fill_bytes(percent))
    trace = context.session.fill(percent, pass_seed(context.options.seed, position, 1), watch)
    if trace is not None:
        context.recorder.laid_out(trace.written_bytes)
