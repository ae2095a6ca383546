"""The effect of a time budget on a plan."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from jovik.analysis.steady_state import STEADY_WINDOW
from jovik.base.errors import UsageError
from jovik.base.quantities import show_time
from jovik.runs.repetition import FEWEST_PASSES
from jovik.runs.task import Task
from jovik.steps import IoStep, PreconditionStep, Step


def fit_to_budget(
    tasks: Sequence[Task], budget_ns: int, time_of: Callable[[Task], int]
) -> tuple[list[Task], list[str]]:
    """Return the plan within a time budget, and the omissions in words.

    The order: fewer passes, down to three; then the lines that the plan calls spare, the most spare
    first. What is still too long is ended while it runs: each step has its share of the time, makes
    the passes that fit, and a long write ends with its share.

    Parameters
    ----------
    time_of : callable
        The expected time of a task, nanoseconds.
    """
    remaining = list(tasks)
    notes: list[str] = []

    def expected() -> int:
        return sum(time_of(_fewer(t)) for t in remaining)

    if sum(map(time_of, remaining)) > budget_ns:
        notes.append("as many passes as there is time for")
    for level in sorted({t.drop_order for t in remaining if t.drop_order}, reverse=True):
        if expected() <= budget_ns:
            break
        gone = [t for t in remaining if t.drop_order == level]
        remaining = [t for t in remaining if t.drop_order != level]
        notes.append(
            "left out: " + ", ".join(dict.fromkeys(t.ladder or t.step.canonical for t in gone))
        )
    if expected() > budget_ns:
        notes.append(
            f"the rest would take {show_time(expected())}; each step gets a part of the time"
        )
    return remaining, notes


def shorten_range(
    tasks: Sequence[Task], budget_ns: int, time_of: Callable[[Task], int]
) -> tuple[list[Task], list[str]]:
    """Return same steps over a shorter range, all of which is written before anything is steady.

    Rounds stay as long and as many as the specification asks: a budget that cannot hold the fewest
    of them is refused.

    Raises
    ------
    UsageError
        It cannot.
    """
    least = [_fewest(t) for t in tasks]
    if sum(map(time_of, least)) <= budget_ns:
        return list(tasks), []
    scaled = [t for t in least if _percent(t.step) and not t.tracked and t.rounds is None]
    scaled_ns = sum(map(time_of, scaled))
    fixed_ns = sum(map(time_of, least)) - scaled_ns
    if fixed_ns >= budget_ns or not scaled_ns:
        raise UsageError(
            f"{STEADY_WINDOW} rounds alone take {show_time(fixed_ns)}, and the budget is "
            f"{show_time(budget_ns)}",
            "a steady state needs its time; for a short test: --plan second-look",
        )
    share = (budget_ns - fixed_ns) / scaled_ns
    before = max(_percent(t.step) or 0 for t in scaled)
    percent = max(int(before * share), 1)
    shortened = [
        replace(t, step=_within(t.step, percent)) if _percent(t.step) else t for t in tasks
    ]
    return shortened, [
        f"the range is {percent} % of the free space instead of {before} %: with more free flash "
        "the drive has less to clean up, so that figures are higher than on a full range"
    ]


def _percent(step: Step) -> int | None:
    return step.span_free_percent if isinstance(step, IoStep | PreconditionStep) else None


def _within(step: Step, percent: int) -> Step:
    assert isinstance(step, IoStep | PreconditionStep)
    return replace(step, span_free_percent=percent)


def _fewest(task: Task) -> Task:
    """With no more rounds than there have to be."""
    if task.rounds is None:
        return task
    return replace(task, repeat=replace(task.repeat, most=task.repeat.least))


def _fewer(task: Task) -> Task:
    """Return the task with the fewest passes that are still useful."""
    return replace(task, repeat=replace(task.repeat, most=min(task.repeat.most, FEWEST_PASSES)))
