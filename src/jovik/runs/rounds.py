"""Rounds: several steps in turn, for a number of rounds or until the tracked ones are steady.

A step that is repeated until steady by itself is a round of one.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from jovik.analysis.decay import decay
from jovik.analysis.steady_state import STEADY_WINDOW, excursion, is_steady, last_window, slope
from jovik.analysis.step_result import StepResult
from jovik.base.findings import SteadyState
from jovik.base.trace import Latencies, Trace
from jovik.runs.context import ResumedStep, RunContext
from jovik.runs.repetition import TimeAllowance
from jovik.runs.running_step import RunningStep
from jovik.runs.task import Task
from jovik.steps import IoStep, Step
from jovik.steps.cost import PlanCost
from jovik.steps.seed import pass_seed

NO_MEAN = 1e9
"""Stands for an excursion of rounds in which nothing was done."""


def interleaved(tasks: Sequence[Task], left: Sequence[int], at: int) -> list[int]:
    """Return the positions from `at` on that belong to the same rounds.

    One alone where there are none.
    """
    rounds = tasks[left[at]].rounds
    group = [left[at]]
    for position in left[at + 1 :]:
        if rounds is None or tasks[position].rounds != rounds or position != group[-1] + 1:
            break
        group.append(position)
    return group


def in_rounds(tasks: Sequence[Task], group: Sequence[int]) -> bool:
    """Return whether these positions are made round by round."""
    return len(group) > 1 or tasks[group[0]].tracked


def run_rounds(
    tasks: Sequence[Task],
    shares: Mapping[int, TimeAllowance | None],
    context: RunContext,
    results: Sequence[StepResult],
    done: Mapping[int, ResumedStep],
) -> list[StepResult]:
    """Return the results after the first pass of each step, then the second of each, and so on.

    Each step goes on where it left off, as one of an interrupted run does.

    Parameters
    ----------
    shares : mapping from position to TimeAllowance or None
        The steps, with the time that each may take.
    """
    group = list(shares)
    tracked = [p for p in group if tasks[p].tracked]
    so_far = {p: done.get(p) for p in group}
    # Rounds that an earlier process made met another state of the drive.
    earlier = max((len(d.traces) for d in so_far.values() if d is not None), default=0)
    if earlier and tracked:
        bring_back_state(tasks, group[0], context)
    spent = dict.fromkeys(group, 0)
    most = max(tasks[p].repeat.most for p in group)
    rounds = 0
    for number in range(1, most + 1):
        rounds = number
        for position in group:
            before = so_far[position]
            if before is not None and len(before.traces) >= number:
                continue
            step = tasks[position].step.resolve(context.session)
            running = RunningStep(
                position,
                tasks,
                context,
                results,
                shares[position],
                before,
                number,
                spent[position],
                more=True,
            )
            began = context.session.now_ns()
            step.run(running)
            so_far[position] = ResumedStep(running.made, finished=False)
            spent[position] += context.session.now_ns() - began
        if tracked and _all_steady(tasks, tracked, so_far, earlier):
            break
    finished = []
    for position in group:
        step = tasks[position].step.resolve(context.session)
        running = RunningStep(
            position,
            tasks,
            context,
            results,
            shares[position],
            so_far[position],
            rounds,
            more=False,
        )
        traces = _traces(so_far[position])
        if tracked:
            sure = _all_steady(tasks, tracked, so_far, earlier)
            running.steady = _finding(tasks, position, tracked, traces, sure)
        finished.append(step.run(running))
    return finished


def bring_back_state(tasks: Sequence[Task], first: int, context: RunContext) -> None:
    """Repeat the preparation of the drive right before the rounds that begin at `first`."""
    begin = first
    while begin and not tasks[begin - 1].step.measures:
        begin -= 1
    for position in range(begin, first):
        step = tasks[position].step.resolve(context.session)
        cost = PlanCost()
        step.add_cost(cost, context.session, 1)
        watch = context.observer.preparing(position, step, cost.certain_bytes)
        written = step.bring_back(
            context.session, pass_seed(context.options.seed, position, 0), watch
        )
        if written:
            context.recorder.laid_out(written)


def figure_of_round(step: Step, trace: Trace) -> float:
    """Return the tracked figure of a round: bytes a second, or the mean latency in nanoseconds."""
    if isinstance(step, IoStep) and step.steady == "latency":
        whole = Latencies.merged(trace.latencies.values())
        return whole.sum_ns / whole.total if whole and whole.total else 0.0
    return trace.rate_bytes_s


def _traces(made: ResumedStep | None) -> Sequence[Trace]:
    return made.traces if made is not None else ()


def _all_steady(
    tasks: Sequence[Task],
    tracked: Sequence[int],
    made: Mapping[int, ResumedStep | None],
    earlier: int,
) -> bool:
    for position in tracked:
        traces = _traces(made[position])
        of_now = traces[max(earlier, len(traces) - STEADY_WINDOW) :]
        rounds = [figure_of_round(tasks[position].step, t) for t in of_now]
        if len(rounds) < STEADY_WINDOW or not is_steady(last_window(rounds)):
            return False
    return True


def _finding(
    tasks: Sequence[Task],
    position: int,
    tracked: Sequence[int],
    traces: Sequence[Trace],
    steady: bool,
) -> SteadyState:
    step = tasks[position].step
    window = [figure_of_round(step, t) for t in traces[-STEADY_WINDOW:]]
    assert isinstance(step, IoStep)
    every = [figure_of_round(step, t) for t in traces]
    return SteadyState(
        figure=step.steady,
        rounds=len(traces),
        first=len(traces) - len(window) + 1,
        count=len(window),
        # What was not tracked has the window of the others, and has to be steady in it itself.
        steady=steady and is_steady(window),
        excursion=min(excursion(window), NO_MEAN),
        slope=min(max(slope(window), -NO_MEAN), NO_MEAN),
        tracked=tuple(tasks[p].step.canonical for p in tracked),
        decay=decay(every[len(every) // 3 :]) if step.steady == "rate" else None,
    )
