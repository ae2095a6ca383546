"""One plan, and its cost on a target: the answer of `jovik plan show`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.answers.answer import Answer, Csv
from jovik.base.plain_data import keyed, plain
from jovik.runs.plan_cost import PlanOnTarget, cost_words
from jovik.runs.task import tasks_of
from jovik.steps.io_step import IoStep
from jovik.steps.plan import Plan, PlanEntry, load_plan
from jovik.tables.table import Table


@dataclass(frozen=True)
class PlanAnswer(Answer):
    """The steps of a plan with their reasons, and their cost if a target is named."""

    schema: ClassVar[str] = "plan"

    plan: Plan
    cost: PlanOnTarget | None = None

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        lines = [
            keyed(x, "phrase", "title", "why", "passes", "rounds", spare="drop_order")
            | {"steps": [s.canonical for s in x.steps]}
            for x in self.plan.lines
        ]
        about = keyed(self.plan, "name", "title", "about", "passes") | {"lines": lines}
        return about if self.cost is None else about | {"cost": plain(self.cost)}

    def csv(self) -> Csv:
        """Return a row for each step."""
        rows = [
            (x.phrase, s.canonical, x.title, x.why, x.passes or self.plan.passes, x.drop_order)
            for x in self.plan.lines
            for s in x.steps
        ]
        return Csv(["phrase", "step", "title", "why", "passes", "spare"], rows)

    def tables(self) -> Sequence[Table]:
        """Return a row for each line of the plan."""
        passes = iter(t.repeat.most for t in tasks_of(self.plan))
        rows, shown = [], set[tuple[int, str]]()
        for line in self.plan.lines:
            # Lines that take turns may share a reason.
            again = line.rounds is not None and (line.rounds, line.why) in shown
            if line.rounds is not None:
                shown.add((line.rounds, line.why))
            most = max([next(passes) for _ in line.steps])
            why = "" if again else line.why or line.title
            spare = str(line.drop_order or "-")
            rows.append((line.phrase, str(len(line.steps)), _times(line, most), spare, why))
        return [
            Table(
                f"{self.plan.name}: {self.plan.title}",
                ["phrase", "steps", "passes", "spare", "why"],
                rows,
                right=(1, 2, 3),
                optional_columns=(3,),
                notes=[
                    self.plan.about,
                    "spare: a time budget drops these lines first, the highest number first",
                    *(cost_words(self.cost) if self.cost is not None else ()),
                ],
            )
        ]


def _times(line: PlanEntry, most: int) -> str:
    """Return how often the steps of a line are made."""
    if any(isinstance(s, IoStep) and s.steady for s in line.steps):
        return f"until steady, {most} at most"
    return f"{most} in rounds" if line.rounds is not None else str(most)


def plan(name: str, cost: PlanOnTarget | None = None) -> PlanAnswer:
    """Return a plan that ships with Jovik, or the one in a file."""
    return PlanAnswer(load_plan(name), cost)
