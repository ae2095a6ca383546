"""The plans that ship with Jovik: the answer of `jovik plan list`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.answers.answer import Answer, Csv
from jovik.steps.plan import Plan, load_plan, plan_names
from jovik.tables.table import Table


@dataclass(frozen=True)
class PlansAnswer(Answer):
    """Plans with their purposes."""

    schema: ClassVar[str] = "plans"

    plans: tuple[Plan, ...]

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        listing = self.csv()
        return {"plans": [dict(zip(listing.header, row, strict=True)) for row in listing.rows]}

    def csv(self) -> Csv:
        """Return a row for each plan."""
        rows = [(p.name, p.title, p.about, len(p.steps)) for p in self.plans]
        return Csv(["name", "title", "about", "steps"], rows)

    def tables(self) -> Sequence[Table]:
        """Return a row for each plan."""
        return [
            Table(
                "Plans",
                ["name", "steps", "purpose"],
                [(p.name, str(len(p.steps)), p.about) for p in self.plans],
                right=(1,),
                notes=["jovik plan show NAME gives the reason for each step"],
            )
        ]


def plans() -> PlansAnswer:
    """List the plans that ship with Jovik."""
    return PlansAnswer(tuple(map(load_plan, plan_names())))
