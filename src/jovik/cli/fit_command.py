"""`jovik fit`: which loads a drive carries, how many at once, and limiting factor."""

from __future__ import annotations

import click

from jovik.cli.completion import drives, loads
from jovik.cli.handled_by import handled_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.argument("drive", shell_complete=drives, required=False)
@click.option(
    "--load",
    "names",
    multiple=True,
    metavar="NAME",
    shell_complete=loads,
    help="A load, or the path of its .toml file; repeat it at will. Default: all that ship.",
)
@click.option(
    "--loads",
    "listing",
    is_flag=True,
    help="Say which loads there are and how their rates are computed.",
)
@click.option(
    "--classes",
    is_flag=True,
    help="Say what is usual for each class of drive: rules of thumb, with their reasons.",
)
@format_option("markdown")
@shelf_option
@handled_by("fit:fit")
def fit() -> None:
    """Say which loads DRIVE carries, or without DRIVE which drives carry a load.

    Writing counts at the rate after the cliff where a long write was made. With results of a filled
    drive, those are shown too. Exit status 1 when a load that was asked for is not carried.

    \b
    jovik fit --loads
    jovik fit --classes
    jovik fit "Comet 2TB"
    jovik fit "Comet 2TB" --load telescope --load mine.toml
    jovik fit --load voices
    """
