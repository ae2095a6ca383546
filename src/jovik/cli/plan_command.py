"""`jovik plan`: list plans, show what one does and costs, check a file."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

import click

from jovik.base.quantities import show_size, show_time
from jovik.cli.completion import drives, plans
from jovik.cli.echo import echo
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    from jovik.steps import Plan, PlanEntry


@click.group(cls=NamingGroup)
def plan() -> None:
    """Plans: what a review does, in which order and why.

    \b
    jovik plan list
    jovik plan show full-review --target /mnt/new --budget 30min
    jovik plan show first-look --format toml > mine.toml
    """


@plan.command("list")
@format_option()
def list_plans(form: str) -> int:
    """Show the plans that ship with Jovik."""
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.steps import load_plan, plan_names
    from jovik.tables import Table

    plans = [load_plan(n) for n in plan_names()]
    if form == "json":
        emit_json(
            {
                "plans": [
                    {"name": p.name, "title": p.title, "about": p.about, "steps": len(p.steps)}
                    for p in plans
                ]
            },
            "plans",
        )
    elif form == "csv":
        emit_csv(
            ["name", "title", "about", "steps"],
            [(p.name, p.title, p.about, len(p.steps)) for p in plans],
        )
    else:
        rows = [(p.name, str(len(p.steps)), p.about) for p in plans]
        show_table(
            Table(
                "Plans",
                ["name", "steps", "what it does"],
                rows,
                right=(1,),
                notes=["jovik plan show NAME says why each step is there"],
            )
        )
    return 0


@plan.command("show")
@click.argument("name", shell_complete=plans)
@click.option(
    "--target", "target_at", metavar="TARGET", help="Say what it would cost on this target."
)
@click.option(
    "--drive",
    "drive_name",
    metavar="NAME",
    shell_complete=drives,
    help="The drive on the shelf, for its claimed rates and endurance rating.",
)
@click.option("--budget", metavar="TIME", help="Trim it to this time, and say what goes.")
@format_option("toml")
@shelf_option
def show(
    name: str,
    target_at: str | None,
    drive_name: str | None,
    budget: str | None,
    form: str,
    shelf_at: str | None,
) -> int:
    """Show what plan NAME does, in its order, and why."""
    from jovik.base.errors import UsageError
    from jovik.cli.output import emit_csv, emit_json
    from jovik.steps import load_plan
    from jovik.steps.plan import plan_text

    if budget is not None and target_at is None:
        raise UsageError("what a budget leaves depends on the target", "add --target")
    chosen = load_plan(name)
    if form == "toml":
        click.echo(plan_text(name)[0], nl=False)
        return 0
    cost = None
    if target_at is not None:
        cost = _cost(chosen, target_at, drive_name, budget, shelf_at)
    if form == "json":
        emit_json(
            plan_json(chosen) | ({"cost": cost.as_json()} if cost is not None else {}), "plan"
        )
    elif form == "csv":
        rows = [
            (x.phrase, s.canonical, x.title, x.why, x.passes or chosen.passes, x.spare)
            for x in chosen.lines
            for s in x.steps
        ]
        emit_csv(["phrase", "step", "title", "why", "passes", "spare"], rows)
    else:
        _table(chosen, cost.notes() if cost is not None else [])
    return 0


@plan.command("check")
@click.argument("file")
def check(file: str) -> int:
    """Read a plan's FILE and say whether it is one; the line and the key at fault if it is not."""
    from jovik.steps import load_plan

    found = load_plan(file)
    echo(
        f"{found.title}: {len(found.lines)} lines, {len(found.steps)} steps; it can be "
        f"run with --plan {file}"
    )
    return 0


def plan_json(chosen: Plan) -> dict[str, Any]:
    """A plan as documented."""
    return {
        "name": chosen.name,
        "title": chosen.title,
        "about": chosen.about,
        "passes": chosen.passes,
        "lines": [
            {
                "phrase": x.phrase,
                "title": x.title,
                "why": x.why,
                "passes": x.passes,
                "spare": x.spare,
                "rounds": x.rounds,
                "steps": [s.canonical for s in x.steps],
            }
            for x in chosen.lines
        ],
    }


def _table(chosen: Plan, cost: list[str]) -> None:
    from jovik.cli.output import show_table
    from jovik.runs.task import tasks_of
    from jovik.tables import Table

    passes = iter(t.repeat.most for t in tasks_of(chosen))
    rows = []
    told: set[int] = set()
    for line in chosen.lines:
        # Lines that take turns have one reason.
        again = line.rounds in told
        told |= {line.rounds} if line.rounds is not None else set()
        of_line = [next(passes) for _ in line.steps]
        rows.append(
            (
                line.phrase,
                str(len(line.steps)),
                _times_words(line, max(of_line)),
                str(line.spare or "-"),
                "" if again else line.why or line.title,
            )
        )
    show_table(
        Table(
            f"{chosen.name}: {chosen.title}",
            ["phrase", "steps", "passes", "spare", "why"],
            rows,
            right=(1, 2, 3),
            spare=(3,),
            notes=[
                chosen.about,
                "spare: a time budget takes these lines away first, the highest number before "
                "the others",
                *cost,
            ],
        )
    )


def _times_words(line: PlanEntry, most: int) -> str:
    """How often the steps of a line are made."""
    from jovik.steps import IoStep

    if any(isinstance(s, IoStep) and s.steady for s in line.steps):
        return f"until steady, {most} at most"
    return f"{most} in rounds" if line.rounds is not None else str(most)


@dataclass(frozen=True)
class PlanOnTarget:
    """What a plan costs on one target, and what its time budget took away."""

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


def _cost(
    chosen: Plan, target_at: str, drive_name: str | None, budget: str | None, shelf_at: str | None
) -> PlanOnTarget:
    """Time, bytes and share of the endurance rating on a target."""
    from jovik.base.quantities import parse_time
    from jovik.hardware.target import ModelTarget, resolve
    from jovik.runs import RunRequest, fit_budget, prepared
    from jovik.runs.task import tasks_of
    from jovik.sheets.sheet import Drive, Sheet
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.simulator import load_model

    place = resolve(target_at)
    sheet = Sheet(Drive("this drive"))
    if drive_name is not None:
        with Shelf(where_from(shelf_at)) as shelf:
            sheet = shelf.sheet(drive_name)
    elif isinstance(place, ModelTarget):
        sheet = load_model(place.name).sheet
    limit = parse_time(budget) if budget is not None else None
    order = fit_budget(
        RunRequest(
            target=place, tasks=tuple(tasks_of(chosen)), plan=chosen.name, seed=1, budget_ns=limit
        ),
        sheet,
    )
    with prepared(sheet, order) as ready:
        return PlanOnTarget(
            target=target_at,
            time_ns=ready.cost.time_ns,
            written_bytes=ready.cost.written_bytes(ready.rate_bytes_s),
            space_bytes=ready.cost.space_bytes,
            endurance_share=ready.endurance_share,
            budget_ns=limit,
            trimmed=order.trimmed,
            least_time_ns=ready.least.time_ns if ready.least is not None else None,
            least_written_bytes=ready.least.written_bytes(ready.rate_bytes_s)
            if ready.least is not None
            else None,
        )
