"""What is to be run.

Each step of a plan with how often it is repeated, and what a time budget leaves of it.
"""

from __future__ import annotations

from dataclasses import dataclass

from jovik.runs.repetition import FEWEST_TO_STOP_EARLY, RepetitionPolicy
from jovik.steps import Plan, Step


@dataclass(frozen=True)
class Task:
    """One step and its repetitions.

    `spare` is that of its line of the plan, `sweep` the line's phrase where it stands for several
    steps. Neighbouring tasks of one `rounds` number are interleaved, pass by pass.
    """

    step: Step
    repeat: RepetitionPolicy
    spare: int = 0
    sweep: str | None = None
    rounds: int | None = None


def tasks_of(
    plan: Plan, passes: tuple[int, int] | None = None, precision: float | None = None
) -> list[Task]:
    """The tasks of a plan.

    Parameters
    ----------
    passes : (least, most), optional
        What the person asks for, above what the plan says.
    precision : float, optional
        Repeat until the interval is this narrow.
    """
    found = []
    for line in plan.lines:
        for step in line.steps:
            found.append(
                Task(
                    step,
                    _repeat(step, line.passes, plan.passes, passes, precision),
                    line.spare,
                    line.phrase if len(line.steps) > 1 else None,
                    line.rounds,
                )
            )
    return found


def _repeat(
    step: Step,
    of_line: int | None,
    of_plan: int,
    passes: tuple[int, int] | None,
    precision: float | None,
) -> RepetitionPolicy:
    if not step.measures:
        return RepetitionPolicy(1, 1)
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
