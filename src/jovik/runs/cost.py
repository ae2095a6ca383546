"""The estimated cost of a plan: seconds, bytes written, space."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from jovik.base.io_session import Session
from jovik.runs.task import Task
from jovik.steps import IoStep
from jovik.steps.cost import ASSUMED_BYTES_S, PlanCost


def cost_of(
    tasks: Sequence[Task], session: Session, rate_bytes_s: float = ASSUMED_BYTES_S
) -> PlanCost:
    """Return the cost of all tasks. The session reports how much must be prefilled.

    Raises
    ------
    TargetError
        A step asks for a percentage of the free space, which is unknown.
    """
    cost = PlanCost(rate_bytes_s)
    for task in tasks:
        filled = cost.filled_bytes
        task.step.resolve(session, filled).add_cost(cost, session, task.repeat.most)
        cost.time_ns += time_of(task, session, rate_bytes_s, filled)
    return cost


def least_tasks(tasks: Sequence[Task]) -> list[Task]:
    """Return the same with no more rounds until steady than there have to be."""
    return [
        replace(t, repeat=replace(t.repeat, most=t.repeat.least)) if _steady(t) else t
        for t in tasks
    ]


def _steady(task: Task) -> bool:
    return isinstance(task.step, IoStep) and bool(task.step.steady)


def time_of(
    task: Task, session: Session, rate_bytes_s: float = ASSUMED_BYTES_S, filled_bytes: int = 0
) -> int:
    """Return the time a task is expected to take, prefilling left aside, nanoseconds.

    `filled_bytes` is the space that an earlier fill will have taken.
    """
    step = task.step.resolve(session, filled_bytes)
    return round(step.pass_time_ns(session, rate_bytes_s) * task.repeat.most)
