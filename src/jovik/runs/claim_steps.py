"""Replace the claims of a plan by the steps that test them on this drive."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from jovik.analysis.claim_candidates import suggested_step, tests_claim
from jovik.base.errors import UsageError
from jovik.runs.repetition import RepetitionPolicy
from jovik.runs.request import RunRequest
from jovik.runs.task import Task
from jovik.sheets.sheet import Claim, Sheet
from jovik.steps import IoStep, Step
from jovik.steps.claims import SUSTAINED, ClaimsStep

LONG_PERCENT = 30
"""How much of the free space a long write for a sustained claim takes."""


def with_claim_steps(request: RunRequest, sheet: Sheet) -> RunRequest:
    """Return a request with a step for each claim that no other step of it tests.

    Raises
    ------
    UsageError
        Nothing is left to measure, because the sheet has no such claim.
    """
    tasks = claim_tasks(request.tasks, sheet.claims)
    if not tasks:
        name = sheet.drive.name
        raise UsageError(
            f"the sheet of {name} has no claims that this would test",
            f'add one: jovik sheet claim "{name}" "sequential read" FIGURE',
        )
    return replace(request, tasks=tasks)


def claim_tasks(tasks: Sequence[Task], claims: Sequence[Claim]) -> tuple[Task, ...]:
    """Return tasks with those for claims replaced by a step for each that nothing else tests."""
    replaced: list[Task] = []
    tested = [t.step for t in tasks if not isinstance(t.step, ClaimsStep)]
    for task in tasks:
        if not isinstance(task.step, ClaimsStep):
            replaced.append(task)
            continue
        for step in _steps_of(task.step, claims, tested):
            tested.append(step)
            repeat = RepetitionPolicy(1, 1) if step.once else task.repeat
            replaced.append(replace(task, step=step, repeat=repeat))
    return tuple(replaced)


def _steps_of(which: ClaimsStep, claims: Sequence[Claim], tested: Sequence[Step]) -> list[IoStep]:
    """Return the steps for the claims of one kind that nothing tests yet."""
    steps: list[IoStep] = []
    for claim in claims:
        kind = SUSTAINED if claim.sustained else "read" if claim.read_percent else "write"
        if claim.steady or kind != which.which:
            continue
        if any(tests_claim(s, claim) for s in [*tested, *steps]):
            continue
        step = suggested_step(claim)
        if kind == SUSTAINED and not claim.random:
            step = replace(step, amount_free_percent=LONG_PERCENT)
        steps.append(step if kind == SUSTAINED else replace(step, time_ns=which.time_ns))
    return steps
