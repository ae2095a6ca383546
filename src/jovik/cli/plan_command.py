"""`jovik plan`: list plans, show what one does and costs, check a file."""

from __future__ import annotations

import click

from jovik.cli.completion import drives, plans
from jovik.cli.handled_by import answered_by, handled_by
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import format_option, shelf_option


@click.group(cls=NamingGroup)
def plan() -> None:
    """List test plans, what they do and what they cost.

    \b
    jovik plan list
    jovik plan show full-review --target /mnt/new --budget 30min
    jovik plan show first-look --format toml > mine.toml
    """


@plan.command("list")
@format_option()
@answered_by("plans:plans")
def list_plans() -> None:
    """Show the plans that ship with Jovik."""


@plan.command("show")
@click.argument("name", shell_complete=plans)
@click.option("--target", "target_at", metavar="TARGET", help="Estimate the cost on this target.")
@click.option(
    "--drive",
    "drive_name",
    metavar="NAME",
    shell_complete=drives,
    help="The drive on the shelf, for its claimed rates and endurance rating.",
)
@click.option(
    "--budget", metavar="TIME", help="Trim the plan to this time, and list what is dropped."
)
@format_option("toml")
@shelf_option
@handled_by("plan_show:show")
def show() -> None:
    """Show the steps of plan NAME in order, with their reasons."""


@plan.command("check")
@click.argument("file")
@handled_by("plan:check")
def check() -> None:
    """Check a plan's FILE, and report the line and key of an error."""
