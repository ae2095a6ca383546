"""The cost of a run before it begins.

Time, bytes, space, endurance, and the words that announce it.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace

from jovik.base.io_session import Session
from jovik.hardware.device import on_system_volume
from jovik.hardware.target import FolderTarget
from jovik.runs.budget import fit_to_budget, shorten_range
from jovik.runs.claim_steps import with_claim_steps
from jovik.runs.cost import cost_of, least_tasks, time_of
from jovik.runs.open_session import open_session
from jovik.runs.plan_loop import check_plan
from jovik.runs.request import RunRequest
from jovik.sheets.sheet import Sheet
from jovik.steps.cost import ASSUMED_BYTES_S, PlanCost

ASK_ABOVE = 0.01
"""The share of the endurance rating from which on a run asks first."""


@dataclass(frozen=True)
class PreparedRun:
    """A request on an open session, and its estimated cost.

    `rate_bytes_s` is what the drive is taken to write, `times_ns` how long each task should last.
    `least` is the cost with the fewest rounds, if some are repeated until steady.
    """

    request: RunRequest
    sheet: Sheet
    session: Session
    cost: PlanCost
    rate_bytes_s: float
    times_ns: tuple[int, ...]
    least: PlanCost | None = None

    @property
    def endurance_share(self) -> float | None:
        """Return the percentage of the endurance rating that it uses, or None without a rating."""
        return endurance_share(self.sheet, self.cost, self.rate_bytes_s)

    def spends(self, above: float = ASK_ABOVE) -> str:
        """Return a warning if it writes much of the rated endurance.

        Empty otherwise.
        """
        share = self.endurance_share
        if share is None or share <= above or self.session.engine == "model":
            return ""
        return f"this writes {100 * share:.1f} % of the drive's endurance rating"

    @property
    def fills_system(self) -> str:
        """Return a warning if it fills the drive of this system, or an empty string."""
        target = self.request.target
        if not isinstance(target, FolderTarget) or not on_system_volume(target.path):
            return ""
        asked = [t.step.fill_level for t in self.request.tasks if t.step.fill_level]
        levels = [level for level in asked if self.session.to_fill_bytes(level)]
        if not levels:
            return ""
        return (
            f"this fills the drive that the system runs from, to {max(levels)} %: other programs "
            "may run out of space"
        )

    def questions(self, above: float = ASK_ABOVE) -> list[tuple[str, str]]:
        """Return the questions to ask first, each with the part beyond the usual."""
        spent = self.spends(above)
        endless = (
            "it continues to write until you stop it"
            if self.cost.endless and any(t.step.writes for t in self.request.tasks)
            else ""
        )
        if self.session.engine == "model":
            endless = ""
        asked = [(endless, ""), (spent, f", more than {100 * above:g} %"), (self.fills_system, "")]
        return [(question, beyond) for question, beyond in asked if question]


@contextmanager
def prepared(sheet: Sheet, request: RunRequest) -> Iterator[PreparedRun]:
    """Open the request's target, and estimate the cost there.

    Raises
    ------
    RefusedError
        The target cannot take it; nothing was written.
    """

    with open_session(request) as session:
        check_plan(request.tasks, session)
        rate = assumed_rate(sheet)
        times = tuple(time_of(t, session, rate) for t in request.tasks)
        cost = cost_of(request.tasks, session, rate)
        least = cost_of(least_tasks(request.tasks), session, rate) if request.until_steady else None
        yield PreparedRun(request, sheet, session, cost, rate, times, least)


def fit_budget(request: RunRequest, sheet: Sheet) -> RunRequest:
    """Return the request with the drive's claims as steps, without what its budget excludes."""
    request = with_claim_steps(request, sheet)
    if request.budget_ns is None:
        return request
    with open_session(request) as session:
        rate = assumed_rate(sheet)
        fit = shorten_range if request.until_steady else fit_to_budget
        fitting, notes = fit(request.tasks, request.budget_ns, lambda t: time_of(t, session, rate))
    return replace(request, tasks=tuple(fitting), trimmed=tuple(notes))


def assumed_rate(sheet: Sheet) -> float:
    """Return the assumed write rate of the drive, bytes a second, for estimates.

    Its claim, halved, since claims are of the best case.
    """

    claimed = [
        c.figure
        for c in sheet.claims
        if not c.random and c.unit == "bytes/s" and c.read_percent == 0
    ]
    return min(claimed) / 2 if claimed else ASSUMED_BYTES_S


def endurance_share(sheet: Sheet, cost: PlanCost, rate_bytes_s: float) -> float | None:
    """Return the percentage of the endurance rating that a run uses, or None without a rating."""
    rated = sheet.drive.endurance_bytes
    return cost.written_bytes(rate_bytes_s) / rated if rated else None
