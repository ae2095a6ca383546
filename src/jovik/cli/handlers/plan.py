"""Carry out `jovik plan`."""

from __future__ import annotations

from typing import Any

import click

from jovik.base.errors import UsageError
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table
from jovik.steps import IoStep, Plan, PlanEntry, load_plan, plan_names
from jovik.steps.plan import plan_text
from jovik.tables import Table


def list_plans(form: str) -> int:
    """Show the plans that ship with Jovik."""
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
                ["name", "steps", "purpose"],
                rows,
                right=(1,),
                notes=["jovik plan show NAME gives the reason for each step"],
            )
        )
    return 0


def show(
    name: str,
    target_at: str | None,
    drive_name: str | None,
    budget: str | None,
    form: str,
    shelf_at: str | None,
) -> int:
    """Show the steps of plan NAME in order, with their reasons."""
    if budget is not None and target_at is None:
        raise UsageError(
            "--budget needs --target, because the time of a plan depends on the target",
            "add --target",
        )
    chosen = load_plan(name)
    if form == "toml":
        click.echo(plan_text(name)[0], nl=False)
        return 0
    cost = None
    if target_at is not None:
        # Only a cost needs the engine.
        from jovik.cli.handlers.plan_cost import cost_on

        cost = cost_on(chosen, target_at, drive_name, budget, shelf_at)
    if form == "json":
        emit_json(
            plan_json(chosen) | ({"cost": cost.as_json()} if cost is not None else {}), "plan"
        )
    elif form == "csv":
        rows = [
            (x.phrase, s.canonical, x.title, x.why, x.passes or chosen.passes, x.drop_order)
            for x in chosen.lines
            for s in x.steps
        ]
        emit_csv(["phrase", "step", "title", "why", "passes", "spare"], rows)
    else:
        _table(chosen, cost.notes() if cost is not None else [])
    return 0


def check(file: str) -> int:
    """Check a plan's FILE, and report the line and the key of an error."""
    plan = load_plan(file)
    echo(
        f"{plan.title}: {len(plan.lines)} lines, {len(plan.steps)} steps; it can be "
        f"run with --plan {file}"
    )
    return 0


def plan_json(chosen: Plan) -> dict[str, Any]:
    """Return a plan as documented."""
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
                "spare": x.drop_order,
                "rounds": x.rounds,
                "steps": [s.canonical for s in x.steps],
            }
            for x in chosen.lines
        ],
    }


def _table(chosen: Plan, cost: list[str]) -> None:
    # A list of plans does without the engine.
    from jovik.runs.task import tasks_of

    passes = iter(t.repeat.most for t in tasks_of(chosen))
    rows = []
    shown: set[int] = set()
    for line in chosen.lines:
        # Lines that take turns have one reason.
        again = line.rounds in shown
        shown |= {line.rounds} if line.rounds is not None else set()
        of_line = [next(passes) for _ in line.steps]
        rows.append(
            (
                line.phrase,
                str(len(line.steps)),
                _times_words(line, max(of_line)),
                str(line.drop_order or "-"),
                "" if again else line.why or line.title,
            )
        )
    show_table(
        Table(
            f"{chosen.name}: {chosen.title}",
            ["phrase", "steps", "passes", "spare", "why"],
            rows,
            right=(1, 2, 3),
            optional_columns=(3,),
            notes=[
                chosen.about,
                "spare: a time budget takes these lines away first, the highest number before "
                "the others",
                *cost,
            ],
        )
    )


def _times_words(line: PlanEntry, most: int) -> str:
    """Return how often the steps of a line are made."""
    if any(isinstance(s, IoStep) and s.steady for s in line.steps):
        return f"until steady, {most} at most"
    return f"{most} in rounds" if line.rounds is not None else str(most)
