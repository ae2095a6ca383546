"""`jovik judge`: each claim beside its measurement."""

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
    help="Measure undecided claims on TARGET, with as many passes as necessary.",
)
@click.option(
    "--samples",
    "by_sample",
    is_flag=True,
    help="Compare the samples of the drive instead, and name the suspect ones.",
)
@click.option(
    "--why",
    "why",
    is_flag=True,
    help="Show the results behind each verdict, what others lacked, and what would settle it.",
)
@click.option(
    "--real-work",
    "work",
    is_flag=True,
    help="Show streams, copies and recorded programs as a percentage of the advertised speed.",
)
@format_option("markdown")
@shelf_option
@handled_by("judge:judge")
def judge() -> None:
    """Compare the results of DRIVE with its claims.

    The exit status is 1 if a claim was missed or the drive lost data.

    \b
    jovik judge "Comet 2TB"
    jovik judge "Comet 2TB" --settle /mnt/new
    jovik judge "Comet 2TB" --why
    jovik judge "Comet 2TB" --samples
    jovik judge "Comet 2TB" --real-work
    """
