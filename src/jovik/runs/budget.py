"""What a time budget leaves of a plan, and what it takes away."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from jovik.base.quantities import show_time
from jovik.runs.repetition import FEWEST_PASSES
from jovik.runs.task import Task


def fit_to_budget(
    tasks: Sequence[Task], budget_ns: int, time_of: Callable[[Task], int]
) -> tuple[list[Task], list[str]]:
    """What a time budget leaves of a plan, and in words what it took away.

    The order: fewer passes, down to three; then the lines that the plan calls spare, the most spare
    first. What is still too long is ended while it runs: each step has its share of the time, makes
    the passes that fit, and a long write ends with its share.

    Parameters
    ----------
    time_of : callable
        The expected time of a task, nanoseconds.
    """
    left = list(tasks)
    said: list[str] = []

    def expected() -> int:
        return sum(time_of(_fewer(t)) for t in left)

    if sum(map(time_of, left)) > budget_ns:
        said.append("as many passes as there is time for")
    for level in sorted({t.spare for t in left if t.spare}, reverse=True):
        if expected() <= budget_ns:
            break
        gone = [t for t in left if t.spare == level]
        left = [t for t in left if t.spare != level]
        said.append(
            "left out: " + ", ".join(dict.fromkeys(t.sweep or t.step.canonical for t in gone))
        )
    if expected() > budget_ns:
        said.append(
            f"the rest would take {show_time(expected())}; each step ends with its share of "
            "the time"
        )
    return left, said


def _fewer(task: Task) -> Task:
    """With as few passes as still say something."""
    return replace(task, repeat=replace(task.repeat, most=min(task.repeat.most, FEWEST_PASSES)))
