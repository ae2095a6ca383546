"""`jovik fit`: which loads a drive carries, how many at once, and limiting factor."""

from __future__ import annotations

import click

from jovik.cli.completion import drives, loads_and_recordings
from jovik.cli.handled_by import handled_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.argument("drive", shell_complete=drives, required=False)
@click.option(
    "--load",
    "names",
    multiple=True,
    metavar="NAME",
    shell_complete=loads_and_recordings,
    help="A load, the path of its .toml file, or with DRIVE a recorded program. Repeatable. "
    "Default: all loads that ship with Jovik.",
)
@click.option(
    "--loads",
    "listing",
    is_flag=True,
    help="List the loads and how their rates are computed.",
)
@click.option(
    "--classes",
    is_flag=True,
    help="List the usual figures of each class of drive, with their reasons.",
)
@format_option("markdown")
@shelf_option
@handled_by("fit:fit")
def fit() -> None:
    """Find the loads that DRIVE carries, or without DRIVE the drives that carry a load.

    If there is a long write, writing counts at the rate after the cliff. Results of a filled drive
    are shown as well. The exit status is 1 if the drive does not carry a requested load.

    \b
    jovik fit --loads
    jovik fit --classes
    jovik fit "Comet 2TB"
    jovik fit "Comet 2TB" --load telescope --load mine.toml
    jovik fit "Comet 2TB" --load editor-start
    jovik fit --load voices
    """
