"""The cost of a plan on a target."""

from __future__ import annotations

from dataclasses import dataclass

from jovik.base.quantities import parse_time, show_size, show_time
from jovik.hardware.target import ModelTarget, resolve
from jovik.runs import RunRequest, fit_budget, prepared
from jovik.runs.task import tasks_of
from jovik.sheets.sheet import Drive, Sheet
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


def cost_words(cost: PlanOnTarget) -> list[str]:
    """Return the cost in words."""
    share = cost.endurance_share
    endurance = f", {100 * share:.2g} % of its endurance rating" if share is not None else ""
    lines = [
        f"on {cost.target}: about {show_time(cost.time_ns)}, "
        f"writes about {show_size(cost.written_bytes)}{endurance}"
    ]
    if cost.least_time_ns is not None and cost.least_written_bytes is not None:
        lines = [
            f"on {cost.target}: about {show_time(cost.least_time_ns)} if it is steady at once, "
            f"{show_time(cost.time_ns)} at most; writes about "
            f"{show_size(cost.least_written_bytes)} to {show_size(cost.written_bytes)}"
            f"{endurance.replace(', ', ', up to ')}"
        ]
    if cost.trimmed and cost.budget_ns is not None:
        lines.append(f"to stay within {show_time(cost.budget_ns)}: {'; '.join(cost.trimmed)}")
    return lines


def cost_on(
    chosen: Plan, target_at: str, sheet: Sheet | None = None, budget: str | None = None
) -> PlanOnTarget:
    """Return time, bytes and percentage of the endurance rating on a target."""
    target = resolve(target_at)
    if sheet is None:
        sheet = Sheet(Drive("this drive"))
        if isinstance(target, ModelTarget):
            sheet = load_model(target.name).sheet
    limit = parse_time(budget) if budget is not None else None
    request = fit_budget(
        RunRequest(
            target=target,
            tasks=tuple(tasks_of(chosen)),
            plan=chosen.name,
            seed=1,
            budget_ns=limit,
            only_cost=True,
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
