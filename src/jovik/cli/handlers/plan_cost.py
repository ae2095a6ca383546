"""Report what a plan costs on a target."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from jovik.base.quantities import parse_time, show_size, show_time
from jovik.hardware.target import ModelTarget, resolve
from jovik.runs import RunRequest, fit_budget, prepared
from jovik.runs.task import tasks_of
from jovik.sheets.sheet import Drive, Sheet
from jovik.shelf.sqlite import where_from
from jovik.shelf.store import Shelf
from jovik.simulator import load_model
from jovik.steps import Plan


@dataclass(frozen=True)
class PlanOnTarget:
    """The cost of a plan on one target, and the steps that its time budget removed."""

    target: str
    time_ns: int
    written_bytes: int
    space_bytes: int
    endurance_share: float | None
    budget_ns: int | None
    trimmed: tuple[str, ...]
    least_time_ns: int | None = None
    least_written_bytes: int | None = None

    def as_json(self) -> dict[str, Any]:
        """As documented."""
        return asdict(self) | {"trimmed": list(self.trimmed)}

    def notes(self) -> list[str]:
        """For a reader."""
        share = self.endurance_share
        endurance = f", {100 * share:.2g} % of its endurance rating" if share is not None else ""
        lines = [
            f"on {self.target}: about {show_time(self.time_ns)}, "
            f"writes about {show_size(self.written_bytes)}{endurance}"
        ]
        if self.least_time_ns is not None and self.least_written_bytes is not None:
            lines = [
                f"on {self.target}: about {show_time(self.least_time_ns)} if it is steady at once, "
                f"{show_time(self.time_ns)} at most; writes about "
                f"{show_size(self.least_written_bytes)} to {show_size(self.written_bytes)}"
                f"{endurance.replace(', ', ', up to ')}"
            ]
        if self.trimmed and self.budget_ns is not None:
            lines.append(f"to stay within {show_time(self.budget_ns)}: {'; '.join(self.trimmed)}")
        return lines


def cost_on(
    chosen: Plan, target_at: str, drive_name: str | None, budget: str | None, shelf_at: str | None
) -> PlanOnTarget:
    """Time, bytes and share of the endurance rating on a target."""
    target = resolve(target_at)
    sheet = Sheet(Drive("this drive"))
    if drive_name is not None:
        with Shelf(where_from(shelf_at)) as shelf:
            sheet = shelf.sheets.get(drive_name)
    elif isinstance(target, ModelTarget):
        sheet = load_model(target.name).sheet
    limit = parse_time(budget) if budget is not None else None
    request = fit_budget(
        RunRequest(
            target=target, tasks=tuple(tasks_of(chosen)), plan=chosen.name, seed=1, budget_ns=limit
        ),
        sheet,
    )
    with prepared(sheet, request) as ready:
        return PlanOnTarget(
            target=target_at,
            time_ns=ready.cost.time_ns,
            written_bytes=ready.cost.written_bytes(ready.rate_bytes_s),
            space_bytes=ready.cost.space_bytes,
            endurance_share=ready.endurance_share,
            budget_ns=limit,
            trimmed=request.trimmed,
            least_time_ns=ready.least.time_ns if ready.least is not None else None,
            least_written_bytes=ready.least.written_bytes(ready.rate_bytes_s)
            if ready.least is not None
            else None,
        )
