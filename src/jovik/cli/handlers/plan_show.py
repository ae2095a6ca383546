"""Carry out `jovik plan show`."""

from __future__ import annotations

import click

from jovik.answers.plan import plan
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.cli import output
from jovik.runs.plan_cost import cost_on
from jovik.shelf.store import Shelf
from jovik.steps.plan import load_plan, plan_text


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
    if form == "toml":
        load_plan(name)
        click.echo(plan_text(name)[0], nl=False)
        return 0
    sheet, cost = None, None
    if drive_name is not None and target_at is not None:
        with Shelf(where_from(shelf_at)) as shelf:
            sheet = shelf.sheets.get(drive_name)
    if target_at is not None:
        cost = cost_on(load_plan(name), target_at, sheet, budget)
    return output.show(plan(name, cost), form)
