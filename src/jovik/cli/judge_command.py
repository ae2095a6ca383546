"""`jovik judge`: each claim beside what was measured."""

from __future__ import annotations

import click

from jovik.cli.completion import drives
from jovik.cli.handled_by import handled_by
from jovik.cli.options import UnitParam, format_option, share, shelf_option


@click.command()
@click.argument("drive", shell_complete=drives)
@click.option(
    "--margin",
    type=UnitParam("SHARE", share),
    default="5%",
    show_default=True,
    help="How far below a claim still meets it.",
)
@click.option(
    "--settle",
    "target",
    metavar="TARGET",
    help="Measure on TARGET what is too close to call, with as many passes as it takes.",
)
@click.option(
    "--samples",
    "by_unit",
    is_flag=True,
    help="Lay the samples of the drive side by side instead, and name those that are not right.",
)
@click.option(
    "--real-work",
    "work",
    is_flag=True,
    help="Show what its streams, copies and recorded programs get of what the box says.",
)
@format_option("markdown")
@shelf_option
@handled_by("judge:judge")
def judge() -> None:
    """Hold the results of DRIVE against its claims.

    Exit status 1 when a claim fell short, or the drive lost data.

    \b
    jovik judge "Comet 2TB"
    jovik judge "Comet 2TB" --settle /mnt/new
    jovik judge "Comet 2TB" --samples
    jovik judge "Comet 2TB" --real-work
    """
