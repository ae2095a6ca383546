"""Carry out `jovik plan check`."""

from __future__ import annotations

from jovik.cli.echo import echo
from jovik.steps.plan import load_plan


def check(file: str) -> int:
    """Check a plan's FILE, and report the line and the key of an error."""
    plan = load_plan(file)
    echo(
        f"{plan.title}: {len(plan.lines)} lines, {len(plan.steps)} steps; it can be "
        f"run with --plan {file}"
    )
    return 0
