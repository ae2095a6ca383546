"""The tasks of a run.

Each step of a plan with its repetitions, within a time budget.
"""

from __future__ import annotations

from dataclasses import dataclass

from jovik.analysis.steady_state import STEADY_WINDOW
from jovik.runs.repetition import FEWEST_TO_STOP_EARLY, RepetitionPolicy
from jovik.steps import IoStep, Plan, Step

ALONE, MOST_STEPS = 1_000_000, 10_000
"""Where the numbers of rounds of one step begin, and how far those of two lines lie apart."""


@dataclass(frozen=True)
class Task:
    """One step and its repetitions.

    `drop_order` is that of its line of the plan. `ladder` is the line's phrase if it stands for
    several steps. Neighbouring tasks with the same `rounds` number are interleaved pass by pass,
    until those that are `tracked` are steady.
    """

    step: Step
    repeat: RepetitionPolicy
    drop_order: int = 0
    ladder: str | None = None
    rounds: int | None = None
    tracked: bool = False


def tasks_of(
    plan: Plan, passes: tuple[int, int] | None = None, precision: float | None = None
) -> list[Task]:
    """Return the tasks of a plan.

    Parameters
    ----------
    passes : (least, most), optional
        The repetitions that the user asks for, which override the plan's.
    precision : float, optional
        Repeat until the interval is this narrow.
    """
    tasks = []
    for number, line in enumerate(plan.lines):
        for step in line.steps:
            steady = isinstance(step, IoStep) and bool(step.steady)
            rounds = line.rounds
            if steady and rounds is None:
                # By itself it is a round of one, and no rung waits for another.
                rounds = ALONE + number * MOST_STEPS + line.steps.index(step)
            tasks.append(
                Task(
                    step.pinned(),
                    _repeat(step, line.passes, plan.passes, passes, precision),
                    line.drop_order,
                    line.phrase if len(line.steps) > 1 and not steady else None,
                    rounds,
                    steady and (line.rounds is None or step in line.tracked),
                )
            )
    return tasks


def _repeat(
    step: Step,
    of_line: int | None,
    of_plan: int,
    passes: tuple[int, int] | None,
    precision: float | None,
) -> RepetitionPolicy:
    if step.own_passes is not None:
        return RepetitionPolicy(step.own_passes, step.own_passes)
    if not step.measures:
        return RepetitionPolicy(1, 1)
    if isinstance(step, IoStep) and step.steady:
        most = of_line or step.most_rounds
        return RepetitionPolicy(min(STEADY_WINDOW, most), most)
    if passes is not None:
        least, most = passes
        # With only an upper wish to stop early there must be something to stop for.
        wanted = precision if precision is not None or least == most else 0.02
        return RepetitionPolicy(least, most, wanted)
    # A long write changes the drive it measures: made again it would meet another one.
    count = of_line or (1 if step.once else of_plan)
    if precision is not None and not step.once:
        return RepetitionPolicy(FEWEST_TO_STOP_EARLY, max(count, 30), precision)
    return RepetitionPolicy(count, count)
